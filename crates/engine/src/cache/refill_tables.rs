//! The store, and the tables of refill permits over it.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Mutex, MutexGuard, PoisonError};

use verax_core::guard::RefillLimits;
use verax_core::{Key, NamespaceId, RefillTable, Store};

use super::waiter::Waiter;
use super::write_turns::WriteTurns;

const GUARD_SHARDS: usize = 32;

/// The store and the refill permits over it.
#[derive(Debug)]
pub(crate) struct Cache {
    pub(crate) store: Store,
    pub(super) guards: Box<[Mutex<RefillTable<Waiter>>]>,
    pub(super) writes: WriteTurns,
}

impl Cache {
    pub(crate) fn new(memory_limit: u64, max_waiters: usize) -> Self {
        let guards = (0..GUARD_SHARDS).map(|_| {
            // At most 2^52, so that every JSON parser keeps permit numbers exact.
            let limits = RefillLimits { waiters: max_waiters, ..Default::default() };
            Mutex::new(RefillTable::new(limits, rand::random::<u64>() >> 12))
        });
        let (guards, writes) = (guards.collect(), WriteTurns::default());
        Self { store: Store::new(memory_limit), guards, writes }
    }

    /// The refills of the shard that a key belongs to.
    pub(crate) fn guard(
        &self,
        namespace: NamespaceId,
        key: &Key,
    ) -> MutexGuard<'_, RefillTable<Waiter>> {
        let mut hasher = DefaultHasher::new();
        (namespace, key).hash(&mut hasher);
        let shard = &self.guards[hasher.finish() as usize % GUARD_SHARDS];
        shard.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The refills of all shards, one after the other.
    pub(crate) fn guards(&self) -> impl Iterator<Item = MutexGuard<'_, RefillTable<Waiter>>> {
        self.guards.iter().map(|g| g.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
