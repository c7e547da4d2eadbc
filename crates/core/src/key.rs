//! Keys, and the identity of the namespace that every key belongs to.

use std::fmt;

use serde::{Deserialize, Serialize};

/// The longest key, in bytes of UTF-8.
pub const MAX_KEY_BYTES: usize = 1024;

/// The identity of a namespace: assigned once, never reused, not derived from its name.
///
/// Entries are addressed by this number and the key, so two namespaces can never meet, whatever
/// their names and keys look like.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, Default,
)]
pub struct NamespaceId(pub u64);

/// A key: 1 to 1024 bytes of UTF-8, any characters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct Key(Box<str>);

/// Why a text is not a [`Key`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidKey {
    /// The key has no characters.
    #[error("the key is empty: use at least one character")]
    Empty,
    /// The key is longer than [`MAX_KEY_BYTES`] bytes.
    #[error(
        "the key has {0} bytes, more than the limit of {MAX_KEY_BYTES}: shorten it, for example by hashing its variable part"
    )]
    TooLong(usize),
}

impl Key {
    /// Checks `text` and makes it a key.
    ///
    /// # Errors
    /// [`InvalidKey`] when it is empty or too long.
    pub fn new(text: impl Into<Box<str>>) -> Result<Self, InvalidKey> {
        let text = text.into();
        Self::check(&text)?;
        Ok(Self(text))
    }

    /// Checks whether `text` can be a key, without making it one.
    ///
    /// # Errors
    /// [`InvalidKey`] when it is empty or too long.
    pub fn check(text: &str) -> Result<(), InvalidKey> {
        match text.len() {
            0 => Err(InvalidKey::Empty),
            n if n > MAX_KEY_BYTES => Err(InvalidKey::TooLong(n)),
            _ => Ok(()),
        }
    }

    /// The key as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_bounded_in_bytes_not_characters() {
        assert_eq!(Key::new(""), Err(InvalidKey::Empty));
        assert!(Key::new("k".repeat(MAX_KEY_BYTES)).is_ok());
        assert_eq!(
            Key::new("ä".repeat(MAX_KEY_BYTES / 2 + 1)),
            Err(InvalidKey::TooLong(MAX_KEY_BYTES + 2))
        );
    }
}
