//! Rate limits that services share.

use verax_core::Key;
use verax_core::store::{Rate, RateLimitError, RateLimitOutcome};

use super::change::Attempt;
use super::waiter::WaitOutcome;
use crate::events::ChangeKind;
use crate::handle::Writer;

impl Writer {
    /// Acquires from a rate limit atomically, if enough is left.
    ///
    /// # Errors
    /// [`RateLimitError`] when it can never succeed.
    pub fn acquire_rate(
        &self,
        key: &Key,
        amount: u64,
        rate: Rate,
    ) -> Result<RateLimitOutcome, RateLimitError> {
        let acquire = |partition: &verax_core::Partition, now| {
            let outcome = partition.acquire_rate(key, amount, rate, now)?;
            Ok(match outcome {
                RateLimitOutcome::Allowed { .. } => Attempt::Changed(outcome),
                RateLimitOutcome::Later { .. } => Attempt::Unchanged(outcome),
            })
        };
        self.change(key, ChangeKind::Put, acquire, |_| WaitOutcome::AskAgain)
    }
}
