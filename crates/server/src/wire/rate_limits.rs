//! Rate limits.

use verax_core::store::{Rate, RateLimitError, RateLimitOutcome};
use verax_wire::{Frame, Reply};

use super::session::Session;
use super::values::{key, milliseconds};
use crate::failure::Failure;

impl Session {
    pub(super) fn acquire_rate(
        &mut self,
        frame: Frame,
        text: &str,
        amount: u64,
        rate: Rate,
    ) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?;
        let reply = match writer.acquire_rate(&key(text)?, amount, rate) {
            Ok(RateLimitOutcome::Allowed { left }) => Reply::RateAcquired { left },
            Ok(RateLimitOutcome::Later { retry_after }) => {
                Reply::Later { retry_after: milliseconds(retry_after) }
            }
            Err(error @ RateLimitError::NotARateLimit) => return Err(Failure::wrong_kind(&error)),
            Err(error) => return Err(Failure::invalid(error)),
        };
        self.outbox.add(frame, &reply);
        Ok(())
    }
}
