//! Counters.

use verax_wire::{Frame, Lifetime, Reply};

use super::session::Session;
use super::values::key;
use crate::failure::Failure;

impl Session {
    pub(super) fn add(
        &mut self,
        frame: Frame,
        text: &str,
        amount: i64,
        lifetime: Option<Lifetime>,
    ) -> Result<(), Failure> {
        let lifetime = Lifetime::parts(lifetime).map_err(Failure::invalid)?;
        let writer = self.opened(frame.namespace)?.writes()?;
        let counted = writer.add(&key(text)?, amount, lifetime);
        let counted = counted.map_err(|error| Failure::wrong_kind(&error))?;
        let reply = Reply::Counted { value: counted.value, created: counted.created };
        self.outbox.add(frame, &reply);
        Ok(())
    }
}
