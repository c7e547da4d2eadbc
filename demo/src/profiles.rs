//! The load profiles that ship with the demo, from demo/profiles.

use verax_api::LoadProfileSpec;

use crate::error::DemoError;

const FILES: [(&str, &str); 3] = [
    ("morning-boards.json", include_str!("../profiles/morning-boards.json")),
    ("tide-check.json", include_str!("../profiles/tide-check.json")),
    ("quick-look.json", include_str!("../profiles/quick-look.json")),
];

/// All of them.
///
/// # Errors
/// [`DemoError::Profile`] names the file at fault.
pub fn shipped() -> Result<Vec<LoadProfileSpec>, DemoError> {
    let read = |(name, text): (&'static str, &str)| {
        serde_json::from_str(text).map_err(|e| DemoError::Profile { name, reason: e.to_string() })
    };
    FILES.into_iter().map(read).collect()
}

/// Writes all of them to a directory, from which a service reads them.
///
/// # Errors
/// The system's error.
pub fn write(directory: &std::path::Path) -> std::io::Result<()> {
    std::fs::create_dir_all(directory)?;
    FILES.iter().try_for_each(|(name, text)| std::fs::write(directory.join(name), text))
}

#[cfg(test)]
mod tests {
    #[test]
    fn shipped_profiles_can_be_read() {
        let names: Vec<String> = super::shipped().unwrap().into_iter().map(|p| p.name).collect();
        assert_eq!(names, ["morning-boards", "tide-check", "quick-look"]);
    }
}
