//! Counters and allowances: what services keep in a shared cache besides values.

use verax_core::Key;
use verax_core::lifetime::CacheControl;
use verax_core::store::{AddError, Counted, Rate, TakeError, Taken};

use super::invalidation::Invalidation;
use super::waiter::Told;
use crate::namespace::{Namespace, count};
use crate::service::Service;

impl Service {
    /// Adds to a counter in one step; a missing one starts at 0 with the lifetime asked for.
    ///
    /// # Errors
    /// [`AddError`] leaves the counter as it is.
    pub fn add(
        &self,
        namespace: &Namespace,
        key: &Key,
        amount: i64,
        cache_control: CacheControl,
    ) -> Result<Counted, AddError> {
        let lifetime = cache_control.lifetime_or(namespace.lifetime());
        let counted = namespace.partition().add(key, amount, lifetime, self.clock.now())?;
        self.written(namespace, key);
        Ok(counted)
    }

    /// Takes from an allowance in one step, if there is enough.
    ///
    /// # Errors
    /// [`TakeError`] when it can never succeed.
    pub fn take(
        &self,
        namespace: &Namespace,
        key: &Key,
        amount: u64,
        rate: Rate,
    ) -> Result<Taken, TakeError> {
        let taken = namespace.partition().take(key, amount, rate, self.clock.now())?;
        if matches!(taken, Taken::Allowed { .. }) {
            self.written(namespace, key);
        }
        Ok(taken)
    }

    fn written(&self, namespace: &Namespace, key: &Key) {
        let voided = self.cache.guard(namespace.id(), key).void(namespace.id(), key);
        self.voided(voided, &Told::AskAgain);
        self.tell(namespace, Invalidation::Key(key));
        count(&namespace.counters().puts);
    }
}
