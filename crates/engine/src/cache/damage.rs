//! Reports of values that a client cannot decode.

use std::sync::PoisonError;

use verax_core::entry::EntityTag;
use verax_core::{Key, Precondition};

use crate::error::EngineError;
use crate::events::{DamageRecord, Event};
use crate::handle::Deleter;

/// The longest reason that a report keeps, in bytes.
pub const MAX_REASON_BYTES: usize = 200;

impl Deleter {
    /// Takes a report that the value with this entity tag cannot be decoded, and removes it, so
    /// that the next read refills it. Another value that is there by now stays, and a key's entry
    /// is removed only so often ([`DamageLimit`](verax_core::damage_limit::DamageLimit)). Returns
    /// whether it was removed.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn report_damage(
        &self,
        key: &Key,
        entity_tag: EntityTag,
        reason: &str,
        reporter: &str,
    ) -> Result<bool, EngineError> {
        let now = self.engine().now();
        let is_there = self
            .partition()
            .peek(key.as_str(), now)
            .is_some_and(|found| !found.is_negative() && found.entity_tag() == entity_tag);
        let is_allowed = is_there && {
            let mut limit = self.damage_limit().lock().unwrap_or_else(PoisonError::into_inner);
            limit.allows(key, now)
        };
        let condition = Precondition::IfMatches(vec![entity_tag]);
        let removed = is_allowed && self.delete_entry(key, &condition).unwrap_or(false);
        let cut = reason.floor_char_boundary(MAX_REASON_BYTES);
        self.notify(&Event::Damage(&DamageRecord {
            at: now,
            namespace: self.id(),
            key: key.clone(),
            reason: reason[..cut].to_owned(),
            reporter: reporter.to_owned(),
            removed,
        }));
        Ok(removed)
    }
}
