//! What a write outdates.

/// The key of the entry of one schema version.
pub(super) fn versioned(key: &str, version: u32) -> String {
    format!("{key};schema={version}")
}

/// The entries that a write outdates.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Outdated {
    /// The entry of one key.
    Key(String),
    /// Every entry with a tag.
    Tag(String),
}

impl Outdated {
    /// The entry of one key.
    pub fn key(key: impl Into<String>) -> Self {
        Self::Key(key.into())
    }

    /// The entries of a key whose values have a schema version: of this version, of the ones before
    /// and after it, so that instances one deployment apart invalidate each other's entries, and
    /// of no version.
    pub fn schema(key: &str, version: u32) -> [Self; 4] {
        let [before, after] = [version.saturating_sub(1), version.saturating_add(1)];
        let versioned = |version| Self::Key(versioned(key, version));
        [Self::key(key), versioned(before), versioned(version), versioned(after)]
    }

    /// Every entry with a tag.
    pub fn tag(tag: impl Into<String>) -> Self {
        Self::Tag(tag.into())
    }
}
