//! Lifetimes of stored entries.

use verax_core::Precondition;
use verax_wire::{Frame, Lifetime, Reply};

use super::session::Session;
use super::values::key;
use crate::failure::Failure;

impl Session {
    pub(super) fn set_lifetime(
        &mut self,
        frame: Frame,
        text: &str,
        lifetime: Option<Lifetime>,
    ) -> Result<(), Failure> {
        let lifetime = Lifetime::parts(lifetime).map_err(Failure::invalid)?;
        let writer = self.opened(frame.namespace)?.writes()?;
        let reply = match writer.set_lifetime(&key(text)?, lifetime, &Precondition::Always)? {
            Some(_) => Reply::done(true),
            None => Reply::Miss,
        };
        self.outbox.add(frame, &reply);
        Ok(())
    }
}
