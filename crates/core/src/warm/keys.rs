//! The keys of a pattern over lists of values.

use std::collections::BTreeMap;

use crate::key::Key;
use crate::pattern::{KeyPattern, NoSuchKey};

/// The most keys of one warm run.
pub const MAX_KEYS: usize = 1_000_000;

/// Why a warm run cannot be planned.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidPlan {
    /// A variable of the pattern has no values.
    #[error("the key pattern's variable {{{0}}} has no values: give a list or a listing for it")]
    NoValues(String),
    /// Values are given for a name that the pattern does not use.
    #[error("values are given for {given:?}, but the key pattern {pattern} has no such variable")]
    Unused {
        /// The name that values were given for.
        given: String,
        /// The pattern.
        pattern: String,
    },
    /// More combinations than [`MAX_KEYS`].
    #[error("the values make {0} keys, more than the limit of {MAX_KEYS} for one run")]
    TooMany(usize),
    /// A combination is not a valid key.
    #[error(transparent)]
    Key(#[from] NoSuchKey),
}

/// Every key of `pattern` over the lists of values, the last variable moving fastest.
///
/// # Errors
/// [`InvalidPlan`] when a list is missing, empty, unused, or a combination makes no key.
pub fn keys_of(
    pattern: &KeyPattern,
    values: &BTreeMap<String, Vec<String>>,
) -> Result<Vec<Key>, InvalidPlan> {
    let variables: Vec<&str> = pattern.variables().collect();
    if let Some(given) = values.keys().find(|k| !variables.contains(&k.as_str())) {
        let (given, pattern) = (given.clone(), pattern.to_string());
        return Err(InvalidPlan::Unused { given, pattern });
    }
    let mut lists = Vec::with_capacity(variables.len());
    for &name in &variables {
        match values.get(name) {
            Some(list) if !list.is_empty() => lists.push(list.as_slice()),
            _ => return Err(InvalidPlan::NoValues(name.to_owned())),
        }
    }
    let total = lists.iter().fold(1usize, |n, list| n.saturating_mul(list.len()));
    if total > MAX_KEYS {
        return Err(InvalidPlan::TooMany(total));
    }
    (0..total)
        .map(|mut index| {
            let mut chosen = vec![""; lists.len()];
            for (slot, list) in chosen.iter_mut().zip(&lists).rev() {
                *slot = &list[index % list.len()];
                index /= list.len();
            }
            let value_of =
                |name: &str| variables.iter().position(|v| *v == name).map(|at| chosen[at]);
            Ok(pattern.key_of(value_of)?)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lists(pairs: &[(&str, &[&str])]) -> BTreeMap<String, Vec<String>> {
        pairs
            .iter()
            .map(|(name, list)| {
                ((*name).to_owned(), list.iter().map(|v| (*v).to_owned()).collect())
            })
            .collect()
    }

    #[test]
    fn keys_are_all_combinations_in_order() {
        let pattern = KeyPattern::parse("{a}/{b}").unwrap();
        let keys = keys_of(&pattern, &lists(&[("a", &["x", "y"]), ("b", &["1", "2"])])).unwrap();
        let texts: Vec<_> = keys.iter().map(Key::as_str).collect();
        assert_eq!(texts, ["x/1", "x/2", "y/1", "y/2"]);
    }

    #[test]
    fn a_pattern_without_variables_is_one_key() {
        let pattern = KeyPattern::parse("network/notice").unwrap();
        assert_eq!(keys_of(&pattern, &lists(&[])).unwrap().len(), 1);
    }

    #[test]
    fn wrong_values_are_named() {
        let pattern = KeyPattern::parse("board/{harbor}").unwrap();
        let error = |values| keys_of(&pattern, &values).unwrap_err();
        assert_eq!(error(lists(&[])), InvalidPlan::NoValues("harbor".into()));
        assert_eq!(error(lists(&[("harbor", &[])])), InvalidPlan::NoValues("harbor".into()));
        assert!(matches!(
            error(lists(&[("harbor", &["a"]), ("port", &["b"])])),
            InvalidPlan::Unused { given, .. } if given == "port"
        ));
        assert!(matches!(error(lists(&[("harbor", &[""])])), InvalidPlan::Key(_)));
    }

    #[test]
    fn combinations_are_bounded_before_they_are_made() {
        let pattern = KeyPattern::parse("{a}/{b}/{c}").unwrap();
        let many: Vec<String> = (0..1000).map(|n| n.to_string()).collect();
        let values = ["a", "b", "c"].map(|v| (v.to_owned(), many.clone())).into();
        assert_eq!(keys_of(&pattern, &values), Err(InvalidPlan::TooMany(1_000_000_000)));
    }
}
