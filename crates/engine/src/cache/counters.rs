//! Counters: whole numbers that services share.

use verax_core::Key;
use verax_core::lifetime::CacheControl;
use verax_core::store::{AddError, Counted};

use super::change::Attempt;
use super::waiter::WaitOutcome;
use crate::events::ChangeKind;
use crate::handle::Writer;

impl Writer {
    /// Adds to a counter atomically; a missing counter starts at 0 with the requested lifetime.
    ///
    /// # Errors
    /// [`AddError`] leaves the counter as it is.
    pub fn add(
        &self,
        key: &Key,
        amount: i64,
        cache_control: CacheControl,
    ) -> Result<Counted, AddError> {
        let lifetime = self.lifetime_of(&cache_control);
        let add = |partition: &verax_core::Partition, now| {
            partition.add(key, amount, lifetime, now).map(Attempt::Changed)
        };
        self.change(key, ChangeKind::Put, add, |_| WaitOutcome::AskAgain)
    }
}
