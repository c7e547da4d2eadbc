//! How to read an entry, and the outcome, for both transports.

/// The outcome of a read.
#[derive(Debug, Clone, PartialEq)]
pub enum Lookup<T> {
    /// A value.
    Found(T),
    /// A miss, and no origin was read.
    Miss,
    /// A negative entry: the origin has no value.
    NoValue,
}

impl<T> Lookup<T> {
    /// The value; `None` for a miss and for a negative entry.
    pub fn found(self) -> Option<T> {
        match self {
            Self::Found(value) => Some(value),
            Self::Miss | Self::NoValue => None,
        }
    }
}

/// How to read an entry.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ReadOptions {
    /// Bypass the cache: read the origin and store its value.
    pub refresh: bool,
    /// Return a cached value or a miss.
    pub only_if_cached: bool,
    /// Also return a copy within its stale-if-error time: the caller's own refill failed.
    pub stale_if_error: bool,
    /// Return age, entity tag, media type and tags. HTTP always does.
    pub details: bool,
    /// Return the revision of the entry. HTTP always does.
    pub revision: bool,
}
