//! The process's environment.

/// The value of a variable; none if it is empty or not text.
pub fn environment(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|text| !text.is_empty())
}
