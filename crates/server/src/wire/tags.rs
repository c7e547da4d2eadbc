//! Invalidation by tag.

use verax_engine::cache::checked_tags;
use verax_wire::{Frame, Reply};

use super::session::Session;
use crate::failure::Failure;

impl Session {
    pub(super) fn invalidate_tag(&mut self, frame: Frame, tag: &str) -> Result<(), Failure> {
        let deleter = self.opened(frame.namespace)?.deletes()?;
        checked_tags([tag]).map_err(Failure::invalid)?;
        let was_there = deleter.invalidate_tag(tag);
        self.outbox.add(frame, &Reply::done(was_there));
        Ok(())
    }
}
