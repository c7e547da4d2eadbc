//! Counters and allowances: what services keep in a shared cache besides values.

use verax_core::Key;
use verax_core::lifetime::CacheControl;
use verax_core::store::{AddError, Counted, Rate, TakeError, Taken};

use super::change::Tried;
use super::waiter::Told;
use crate::events::ChangeKind;
use crate::handle::Writer;

impl Writer {
    /// Adds to a counter in one step; a missing one starts at 0 with the lifetime asked for.
    ///
    /// # Errors
    /// [`AddError`] leaves the counter as it is.
    pub fn add(
        &self,
        key: &Key,
        amount: i64,
        cache_control: CacheControl,
    ) -> Result<Counted, AddError> {
        let lifetime = cache_control.lifetime_or(self.lifetime());
        let add = |partition: &verax_core::Partition, now| {
            partition.add(key, amount, lifetime, now).map(Tried::Changed)
        };
        self.change(key, ChangeKind::Put, add, |_| Told::AskAgain)
    }

    /// Takes from an allowance in one step, if there is enough.
    ///
    /// # Errors
    /// [`TakeError`] when it can never succeed.
    pub fn take(&self, key: &Key, amount: u64, rate: Rate) -> Result<Taken, TakeError> {
        let take = |partition: &verax_core::Partition, now| {
            let taken = partition.take(key, amount, rate, now)?;
            Ok(match taken {
                Taken::Allowed { .. } => Tried::Changed(taken),
                Taken::Later { .. } => Tried::Unchanged(taken),
            })
        };
        self.change(key, ChangeKind::Put, take, |_| Told::AskAgain)
    }
}
