//! Reports of values that clients cannot decode.

use verax_core::EntityTag;
use verax_wire::{EntryTag, Frame, Reply};

use super::session::Session;
use super::values::key;
use crate::failure::Failure;

impl Session {
    pub(super) fn report_damage(
        &mut self,
        frame: Frame,
        text: &str,
        entity_tag: EntryTag,
        reason: &str,
    ) -> Result<(), Failure> {
        let (key, reporter) = (key(text)?, self.display_name());
        let deleter = self.opened(frame.namespace)?.deletes()?;
        let entity_tag = EntityTag::from_number(entity_tag);
        let removed = deleter.report_damage(&key, entity_tag, reason, &reporter)?;
        self.outbox.add(frame, &Reply::done(removed));
        Ok(())
    }
}
