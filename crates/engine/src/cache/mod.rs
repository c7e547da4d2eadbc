//! Reading, storing and refilling entries.

mod batches;
mod change;
mod counters;
mod entries;
mod invalidation;
mod permits;
mod rate_limits;
mod read;
mod refill;
mod tags;
mod waiter;
mod write_through;

use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Mutex, MutexGuard, PoisonError};

use verax_core::guard::RefillLimits;
use verax_core::{Key, NamespaceId, RefillTable, Store};

pub use batches::{BatchAccess, MAX_BATCH_OPERATIONS, Operation, Outcome};
pub use entries::{MAX_PAGE_ENTRIES, PutRequest};
pub(crate) use invalidation::Watchers;
pub use invalidation::{Invalidated, InvalidationWatch};
pub(crate) use permits::end_permits_in_time;
pub use permits::{LEASES, MAX_WAIT, PermitOutcome, PermitRequest, RefillCounts};
pub use read::{Cached, ReadOptions, ReadResult, Source};
pub use refill::Refilled;
pub use tags::{InvalidTags, checked_tags, parse_tags, write_tags};
use waiter::Waiter;
use write_through::WriteTurns;
pub use write_through::{Stored, Written};

const GUARD_SHARDS: usize = 32;

/// The store and the refill permits over it.
#[derive(Debug)]
pub(crate) struct Cache {
    pub(crate) store: Store,
    guards: Box<[Mutex<RefillTable<Waiter>>]>,
    writes: WriteTurns,
}

impl Cache {
    pub(crate) fn new(memory_limit: u64, max_waiters: usize) -> Self {
        let guards = (0..GUARD_SHARDS).map(|_| {
            // At most 2^52, so that every JSON reader keeps the numbers of permits whole.
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
