//! What a write outdates.

/// The entries that a write outdates.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Outdated {
    /// The entry of one key, of every schema version.
    Key(String),
    /// Every entry with a tag.
    Tag(String),
}

impl Outdated {
    /// The entry of one key, of every schema version.
    pub fn key(key: impl Into<String>) -> Self {
        Self::Key(key.into())
    }

    /// Every entry with a tag.
    pub fn tag(tag: impl Into<String>) -> Self {
        Self::Tag(tag.into())
    }
}
