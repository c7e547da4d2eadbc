//! Key patterns: the shape of a namespace's keys, with named variable parts.

use serde::{Deserialize, Serialize};
use std::fmt;

use crate::key::{InvalidKey, Key};

/// The most variables in one pattern.
pub const MAX_VARIABLES: usize = 8;

/// A shape of keys such as `board/{harbor}`: literal text and variables in braces.
///
/// A variable matches one or more characters, up to the first occurrence of the literal that
/// follows it; a variable at the end matches the rest.
///
/// ```
/// use verax_core::KeyPattern;
///
/// let pattern = KeyPattern::parse("board/{harbor}/{day}")?;
/// let values = pattern.values_of("board/aldermouth/2031-05-02").unwrap();
/// assert_eq!(values, [("harbor", "aldermouth"), ("day", "2031-05-02")]);
/// assert_eq!(pattern.values_of("fare/aldermouth"), None);
/// # Ok::<(), verax_core::pattern::InvalidPattern>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct KeyPattern {
    text: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Literal(String),
    Variable(String),
}

/// Why a text is not a [`KeyPattern`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidPattern {
    /// The pattern has no characters.
    #[error("the key pattern is empty")]
    Empty,
    /// A brace without its partner.
    #[error("the key pattern {0:?} has an unmatched brace: write variables as {{name}}")]
    Brace(String),
    /// A variable's name is not letters, digits and underscores.
    #[error("the key pattern's variable {{{0}}} needs a name of letters, digits and underscores")]
    VariableName(String),
    /// The same variable twice.
    #[error("the key pattern uses the variable {{{0}}} twice")]
    Twice(String),
    /// Two variables with nothing between them.
    #[error("the key pattern needs some text between {{{0}}} and {{{1}}}, to tell where one ends")]
    Adjacent(String, String),
    /// More than [`MAX_VARIABLES`] variables.
    #[error("the key pattern has more than {MAX_VARIABLES} variables")]
    TooMany,
}

/// Why values do not make a key of a pattern.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoSuchKey {
    /// A variable has no value.
    #[error("the key pattern's variable {{{0}}} has no value")]
    Missing(String),
    /// The key would parse into other values.
    #[error(
        "the values make the key {0:?}, which the pattern would parse differently: a value is empty or contains the text that follows its variable"
    )]
    Ambiguous(String),
    /// The key breaks the rules for keys.
    #[error(transparent)]
    Key(#[from] InvalidKey),
}

impl KeyPattern {
    /// Parses a pattern.
    ///
    /// # Errors
    /// [`InvalidPattern`] says which part is wrong.
    pub fn parse(text: &str) -> Result<Self, InvalidPattern> {
        let mut parts: Vec<Part> = Vec::new();
        let mut rest = text;
        while !rest.is_empty() {
            let open = rest.find(['{', '}']).unwrap_or(rest.len());
            if open > 0 {
                parts.push(Part::Literal(rest[..open].to_owned()));
                rest = &rest[open..];
                continue;
            }
            let close = rest.find('}');
            let (true, Some(close)) = (rest.starts_with('{'), close) else {
                return Err(InvalidPattern::Brace(text.to_owned()));
            };
            let name = &rest[1..close];
            if name.is_empty() || !name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_') {
                return Err(InvalidPattern::VariableName(name.to_owned()));
            }
            if let Some(Part::Variable(before)) = parts.last() {
                return Err(InvalidPattern::Adjacent(before.clone(), name.to_owned()));
            }
            let variable = Part::Variable(name.to_owned());
            if parts.contains(&variable) {
                return Err(InvalidPattern::Twice(name.to_owned()));
            }
            parts.push(variable);
            rest = &rest[close + 1..];
        }
        let pattern = Self { text: text.to_owned(), parts };
        match pattern.variables().count() {
            _ if pattern.parts.is_empty() => Err(InvalidPattern::Empty),
            n if n > MAX_VARIABLES => Err(InvalidPattern::TooMany),
            _ => Ok(pattern),
        }
    }

    /// The pattern that matches the whole key as the variable `key`.
    pub fn whole_key() -> Self {
        Self { text: "{key}".to_owned(), parts: vec![Part::Variable("key".to_owned())] }
    }

    /// The names of the variables, in order.
    pub fn variables(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|part| match part {
            Part::Variable(name) => Some(name.as_str()),
            Part::Literal(_) => None,
        })
    }

    /// The values of the variables in `key`; `None` when the key does not have this shape.
    pub fn values_of<'a>(&'a self, key: &'a str) -> Option<Vec<(&'a str, &'a str)>> {
        let mut values = Vec::new();
        let mut rest = key;
        let mut parts = self.parts.iter().peekable();
        while let Some(part) = parts.next() {
            match part {
                Part::Literal(literal) => rest = rest.strip_prefix(literal.as_str())?,
                Part::Variable(name) => {
                    let end = match parts.peek() {
                        Some(Part::Literal(literal)) => {
                            // The value has one character at least, so the search starts after it.
                            let first = rest.chars().next()?.len_utf8();
                            first + rest[first..].find(literal.as_str())?
                        }
                        _ => rest.len(),
                    };
                    if end == 0 {
                        return None;
                    }
                    values.push((name.as_str(), &rest[..end]));
                    rest = &rest[end..];
                }
            }
        }
        rest.is_empty().then_some(values)
    }

    /// The key that `value_of` makes of this pattern, given the value of each variable.
    ///
    /// # Errors
    /// [`NoSuchKey`] when a value is missing, or the key would not be read back as these values.
    pub fn key_of<'v>(&self, value_of: impl Fn(&str) -> Option<&'v str>) -> Result<Key, NoSuchKey> {
        let mut key = String::new();
        for part in &self.parts {
            match part {
                Part::Literal(literal) => key.push_str(literal),
                Part::Variable(name) => {
                    key.push_str(value_of(name).ok_or_else(|| NoSuchKey::Missing(name.clone()))?);
                }
            }
        }
        let same = self
            .values_of(&key)
            .is_some_and(|read| read.iter().all(|(name, value)| value_of(name) == Some(*value)));
        if same { Ok(Key::new(key)?) } else { Err(NoSuchKey::Ambiguous(key)) }
    }
}

impl TryFrom<String> for KeyPattern {
    type Error = InvalidPattern;

    fn try_from(text: String) -> Result<Self, InvalidPattern> {
        Self::parse(&text)
    }
}

impl From<KeyPattern> for String {
    fn from(pattern: KeyPattern) -> String {
        pattern.text
    }
}

impl fmt::Display for KeyPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("", InvalidPattern::Empty)]
    #[case("a{b", InvalidPattern::Brace("a{b".into()))]
    #[case("a}b", InvalidPattern::Brace("a}b".into()))]
    #[case("{}", InvalidPattern::VariableName("".into()))]
    #[case("{a b}", InvalidPattern::VariableName("a b".into()))]
    #[case("{a}/{a}", InvalidPattern::Twice("a".into()))]
    #[case("{a}{b}", InvalidPattern::Adjacent("a".into(), "b".into()))]
    #[case("{a}/{b}/{c}/{d}/{e}/{f}/{g}/{h}/{i}", InvalidPattern::TooMany)]
    fn malformed_patterns_are_refused(#[case] text: &str, #[case] error: InvalidPattern) {
        assert_eq!(KeyPattern::parse(text), Err(error));
    }

    #[rstest]
    #[case("board/{harbor}", "board/", None)]
    #[case("board/{harbor}", "board/x", Some(vec![("harbor", "x")]))]
    #[case("{a}-{b}", "x-y-z", Some(vec![("a", "x"), ("b", "y-z")]))]
    #[case("{a}-{b}", "-x-y", Some(vec![("a", "-x"), ("b", "y")]))]
    #[case("{a}.json", "tide.json.json", None)]
    #[case("all", "all", Some(vec![]))]
    #[case("all", "all2", None)]
    #[case("{k}", "ü/💧", Some(vec![("k", "ü/💧")]))]
    fn keys_are_read_by_shape(
        #[case] pattern: &str,
        #[case] key: &str,
        #[case] values: Option<Vec<(&str, &str)>>,
    ) {
        assert_eq!(KeyPattern::parse(pattern).unwrap().values_of(key), values);
    }

    proptest! {
        #[test]
        fn a_generated_key_parses_back_to_its_values(a in ".{0,6}", b in ".{0,6}", sep in "[-/:.]{1,2}") {
            let pattern = KeyPattern::parse(&format!("x{{a}}{sep}{{b}}")).unwrap();
            let value_of = |name: &str| Some(if name == "a" { a.as_str() } else { b.as_str() });
            if let Ok(key) = pattern.key_of(value_of) {
                let read = pattern.values_of(key.as_str()).unwrap();
                prop_assert_eq!(read, vec![("a", a.as_str()), ("b", b.as_str())]);
            }
        }
    }
}
