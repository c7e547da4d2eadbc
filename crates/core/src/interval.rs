//! Invalidation at intervals: for data that changes too often to follow each change.

use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::entry::MAX_TAG_BYTES;
use crate::key::MAX_KEY_BYTES;
use crate::schedule::next_on_grid;
use crate::time::Timestamp;

pub use crate::schedule::INTERVALS;

/// The most rules of a namespace.
pub const MAX_RULES: usize = 16;

/// Which entries a rule is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum IntervalScope {
    /// Every entry.
    All,
    /// Those with a tag.
    Tag(String),
    /// Those whose keys start with this.
    Prefix(String),
}

/// What is done every so often.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IntervalRule {
    /// To which entries.
    pub scope: IntervalScope,
    /// How often.
    pub every: Duration,
    /// Whether they are read anew from the origin, and stay readable meanwhile; otherwise they are
    /// removed.
    pub refresh: bool,
}

/// Why a rule is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidInterval {
    /// An interval out of range.
    #[error("an interval of {} s is out of range: use 1 s to 31 days", .0.as_secs_f64())]
    Every(Duration),
    /// A tag that cannot be one.
    #[error(
        "the tag {0:?} of an interval cannot be one: use 1 to {MAX_TAG_BYTES} printable ASCII characters"
    )]
    Tag(String),
    /// A prefix that no key has.
    #[error("the prefix of an interval has {0} bytes: use 1 to {MAX_KEY_BYTES}, or all entries")]
    Prefix(usize),
    /// Too many rules.
    #[error("there are {0} intervals, more than the limit of {MAX_RULES}")]
    TooMany(usize),
    /// A refresh without an origin.
    #[error("a refresh at intervals needs an origin: bind one, or remove the entries instead")]
    NothingToRefresh,
}

impl IntervalRule {
    /// Checks a rule.
    ///
    /// # Errors
    /// [`InvalidInterval`].
    pub fn check(&self, has_origin: bool) -> Result<(), InvalidInterval> {
        if !INTERVALS.contains(&self.every) {
            return Err(InvalidInterval::Every(self.every));
        }
        match &self.scope {
            IntervalScope::Tag(tag)
                if tag.is_empty()
                    || tag.len() > MAX_TAG_BYTES
                    || !tag.bytes().all(|b| (b' '..=b'~').contains(&b)) =>
            {
                Err(InvalidInterval::Tag(tag.chars().take(40).collect()))
            }
            IntervalScope::Prefix(prefix) if !(1..=MAX_KEY_BYTES).contains(&prefix.len()) => {
                Err(InvalidInterval::Prefix(prefix.len()))
            }
            _ if self.refresh && !has_origin => Err(InvalidInterval::NothingToRefresh),
            _ => Ok(()),
        }
    }

    /// The first time after `now` at which it is due, if it was set at `began`. Times stand on a
    /// grid, so that they do not drift, and missed ones are not made up for.
    pub fn next(&self, began: Timestamp, now: Timestamp) -> Timestamp {
        next_on_grid(began, self.every, now)
    }
}

impl fmt::Display for IntervalRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.scope {
            IntervalScope::All => f.write_str("all")?,
            IntervalScope::Tag(tag) => write!(f, "tag:{tag}")?,
            IntervalScope::Prefix(prefix) => write!(f, "prefix:{prefix}")?,
        }
        let what = if self.refresh { "refreshed" } else { "removed" };
        write!(f, " {what} every {} s", self.every.as_secs_f64())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn rule(scope: IntervalScope, seconds: f64) -> IntervalRule {
        IntervalRule { scope, every: Duration::from_secs_f64(seconds), refresh: false }
    }

    #[rstest]
    #[case(rule(IntervalScope::All, 1.0), true)]
    #[case(rule(IntervalScope::All, 0.999), false)]
    #[case(rule(IntervalScope::All, 31.0 * 86_400.0), true)]
    #[case(rule(IntervalScope::All, 31.0 * 86_400.0 + 0.001), false)]
    #[case(rule(IntervalScope::Tag("boards".into()), 5.0), true)]
    #[case(rule(IntervalScope::Tag(String::new()), 5.0), false)]
    #[case(rule(IntervalScope::Tag("x".repeat(MAX_TAG_BYTES)), 5.0), true)]
    #[case(rule(IntervalScope::Tag("x".repeat(MAX_TAG_BYTES + 1)), 5.0), false)]
    #[case(rule(IntervalScope::Tag("böards".into()), 5.0), false)]
    #[case(rule(IntervalScope::Prefix("board/".into()), 5.0), true)]
    #[case(rule(IntervalScope::Prefix(String::new()), 5.0), false)]
    #[case(rule(IntervalScope::Prefix("x".repeat(MAX_KEY_BYTES + 1)), 5.0), false)]
    fn rules_are_bounded(#[case] rule: IntervalRule, #[case] valid: bool) {
        assert_eq!(rule.check(false).is_ok(), valid, "{rule}");
        let refreshed = IntervalRule { refresh: true, ..rule };
        assert!(refreshed.check(false).is_err());
        assert_eq!(refreshed.check(true).is_ok(), valid);
    }

    proptest! {
        #[test]
        fn times_do_not_drift(began in 0_u64..1_000_000, every in 1_u64..100, late in 0_u64..500_000) {
            let rule = rule(IntervalScope::All, every as f64);
            let (began, every) = (Timestamp::from_millis(began), every * 1_000);
            let now = began + Duration::from_millis(late);
            let next = rule.next(began, now);
            prop_assert!(next > now && next.since(now).as_millis() as u64 <= every);
            prop_assert_eq!(next.since(began).as_millis() as u64 % every, 0);
        }
    }
}
