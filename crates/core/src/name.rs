//! Names of tenants, namespaces, origins and load profiles.

use std::fmt;

use serde::{Deserialize, Serialize};

/// The longest name, in bytes.
pub const MAX_NAME_BYTES: usize = 63;

/// A valid name: 1 to 63 lower-case letters, digits and hyphens, starting with a letter and not
/// ending with a hyphen.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Name(String);

/// Why a text is not a [`Name`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{0:?} is not a valid name: use 1 to 63 lower-case letters, digits and hyphens, starting with a letter and not ending with a hyphen"
)]
pub struct InvalidName(String);

impl Name {
    /// Checks `text` and makes it a name.
    ///
    /// # Errors
    /// [`InvalidName`] when the text breaks the rule above; the message quotes at most 80
    /// characters of it.
    pub fn new(text: impl Into<String>) -> Result<Self, InvalidName> {
        let text = text.into();
        let valid = text.len() <= MAX_NAME_BYTES
            && text.starts_with(|c: char| c.is_ascii_lowercase())
            && !text.ends_with('-')
            && text.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
        if valid { Ok(Self(text)) } else { Err(InvalidName(text.chars().take(80).collect())) }
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for Name {
    type Error = InvalidName;

    fn try_from(text: String) -> Result<Self, InvalidName> {
        Name::new(text)
    }
}

impl std::str::FromStr for Name {
    type Err = InvalidName;

    fn from_str(text: &str) -> Result<Self, InvalidName> {
        Name::new(text)
    }
}

impl From<Name> for String {
    fn from(name: Name) -> String {
        name.0
    }
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        &self.0
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("ferrydesk", true)]
    #[case("a", true)]
    #[case("berth-desk-2", true)]
    #[case("", false)]
    #[case("2fast", false)]
    #[case("Ferry", false)]
    #[case("ferry_desk", false)]
    #[case("ferry-", false)]
    #[case("a/b", false)]
    #[case("hafen-ä", false)]
    fn names_follow_the_rule(#[case] text: &str, #[case] valid: bool) {
        assert_eq!(Name::new(text).is_ok(), valid, "{text:?}");
    }

    #[test]
    fn names_are_bounded_in_length() {
        assert!(Name::new("a".repeat(MAX_NAME_BYTES)).is_ok());
        assert!(Name::new("a".repeat(MAX_NAME_BYTES + 1)).is_err());
    }
}
