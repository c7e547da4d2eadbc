//! Conditions on the current entry (RFC 9110, section 13.1).

use super::EntryRef;
use crate::entry::{EntityTag, EntryRevision};
use crate::lifetime::Freshness;

/// What must hold of the current entry for a change to happen. An entry that look-ups do not find,
/// because it is negative or only for a failing origin, counts as absent.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Precondition {
    /// Nothing.
    #[default]
    Always,
    /// No entry is there (`If-None-Match: *`).
    IfAbsent,
    /// An entry is there, whatever it is (`If-Match: *`).
    IfPresent,
    /// The entry has one of these entity tags (`If-Match`). An empty list never holds: the caller
    /// named only tags that are not Verax's.
    IfMatches(Vec<EntityTag>),
    /// No entry is there that has one of these entity tags (`If-None-Match`).
    UnlessMatches(Vec<EntityTag>),
    /// The entry has this revision: it was not stored or removed since it was read.
    IfRevision(EntryRevision),
}

/// The condition does not hold; nothing was changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the condition does not hold: the entry is not the expected one")]
pub struct ConditionFailed;

impl Precondition {
    /// Checks it against the current entry.
    ///
    /// # Errors
    /// [`ConditionFailed`].
    pub fn check(&self, found: Option<&EntryRef>) -> Result<(), ConditionFailed> {
        let is_there = |found: &&EntryRef| {
            let servable = matches!(found.freshness(), Freshness::Fresh(_) | Freshness::Stale(_));
            servable && !found.is_negative()
        };
        // Computing the entity tag of a large value takes time, so only the conditions that need it
        // do.
        let found = found.filter(is_there);
        let has_one_of = |tags: &[EntityTag]| {
            !tags.is_empty() && found.is_some_and(|found| tags.contains(&found.entity_tag()))
        };
        let holds = match self {
            Self::Always => true,
            Self::IfAbsent => found.is_none(),
            Self::IfPresent => found.is_some(),
            Self::IfMatches(tags) => has_one_of(tags),
            Self::UnlessMatches(tags) => !has_one_of(tags),
            Self::IfRevision(revision) => found.is_some_and(|found| found.revision() == *revision),
        };
        if holds { Ok(()) } else { Err(ConditionFailed) }
    }
}
