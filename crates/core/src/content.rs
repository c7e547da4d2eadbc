//! What the values of a namespace must be.

use std::fmt;
use std::str::FromStr;

use serde::de::IgnoredAny;
use serde::{Deserialize, Serialize};

/// What every value of a namespace must be.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ContentRule {
    /// Any bytes.
    #[default]
    Any,
    /// UTF-8 text.
    Text,
    /// One JSON value (RFC 8259).
    Json,
}

/// Where and why a value breaks a rule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {reason}")]
pub struct Damage {
    /// The line, from 1.
    pub line: usize,
    /// The column in bytes, from 1; 0 at the beginning of a line.
    pub column: usize,
    /// Why.
    pub reason: String,
}

/// A text that is no content rule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("content = {0:?} is none of any, text and json")]
pub struct InvalidContentRule(String);

impl ContentRule {
    /// Every rule.
    pub const ALL: [Self; 3] = [Self::Any, Self::Text, Self::Json];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Any => "any",
            Self::Text => "text",
            Self::Json => "json",
        }
    }

    /// Checks a value.
    ///
    /// # Errors
    /// [`Damage`] tells where it breaks the rule first.
    pub fn check(self, value: &[u8]) -> Result<(), Damage> {
        match self {
            Self::Any => Ok(()),
            Self::Text => text_of(value).map(drop),
            // What is ignored while it is parsed is not checked for UTF-8, so that comes first.
            Self::Json => {
                serde_json::from_str::<IgnoredAny>(text_of(value)?).map(drop).map_err(|error| {
                    // The position is a part of its text, too.
                    let text = error.to_string();
                    let reason = text.split(" at line ").next().unwrap_or(&text).to_owned();
                    Damage { line: error.line(), column: error.column(), reason }
                })
            }
        }
    }
}

fn text_of(value: &[u8]) -> Result<&str, Damage> {
    std::str::from_utf8(value).map_err(|error| {
        let good = &value[..error.valid_up_to()];
        let line = good.iter().filter(|byte| **byte == b'\n').count() + 1;
        let begin = good.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        Damage { line, column: good.len() - begin + 1, reason: "it is not UTF-8".into() }
    })
}

impl fmt::Display for ContentRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for ContentRule {
    type Err = InvalidContentRule;

    fn from_str(text: &str) -> Result<Self, InvalidContentRule> {
        let found = Self::ALL.into_iter().find(|rule| rule.name() == text);
        found.ok_or_else(|| InvalidContentRule(text.chars().take(40).collect()))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(ContentRule::Any, b"\xff\x00", None)]
    #[case(ContentRule::Text, b"calm sea\n", None)]
    #[case(ContentRule::Text, b"calm\nsea \xff", Some((2, 5)))]
    #[case(ContentRule::Text, b"\xff", Some((1, 1)))]
    #[case(ContentRule::Json, b"{\"delay\": 7}", None)]
    #[case(ContentRule::Json, b" [1, \"a\", null] \n", None)]
    #[case(ContentRule::Json, b"{\"delay\":", Some((1, 9)))]
    #[case(ContentRule::Json, b"{\n  \"delay\": seven\n}", Some((2, 12)))]
    #[case(ContentRule::Json, b"", Some((1, 0)))]
    #[case(ContentRule::Json, b"{} {}", Some((1, 4)))]
    #[case(ContentRule::Json, b"\"\xff\"", Some((1, 2)))]
    fn a_broken_rule_is_told_with_its_position(
        #[case] rule: ContentRule,
        #[case] value: &[u8],
        #[case] at: Option<(usize, usize)>,
    ) {
        let broken = rule.check(value).err();
        assert_eq!(broken.as_ref().map(|damage| (damage.line, damage.column)), at, "{broken:?}");
        assert!(broken.is_none_or(|damage| !damage.reason.contains("line")));
    }

    #[test]
    fn rules_survive_text() {
        for rule in ContentRule::ALL {
            assert_eq!(rule.name().parse(), Ok(rule));
        }
        assert!("xml".parse::<ContentRule>().is_err());
    }

    proptest! {
        #[test]
        fn whatever_is_valid_for_others_is_valid_here(text in ".*", bytes: Vec<u8>) {
            prop_assert!(ContentRule::Text.check(text.as_bytes()).is_ok());
            let json = serde_json::to_vec(&serde_json::json!({ "text": text })).unwrap();
            prop_assert!(ContentRule::Json.check(&json).is_ok());
            let is_text = std::str::from_utf8(&bytes).is_ok();
            prop_assert_eq!(ContentRule::Text.check(&bytes).is_ok(), is_text);
            let is_json = serde_json::from_slice::<serde_json::Value>(&bytes).is_ok();
            // Numbers beyond what a program can hold are JSON all the same.
            prop_assert!(!is_json || ContentRule::Json.check(&bytes).is_ok());
        }
    }
}
