//! Reading, storing and refilling entries.

mod batch;
mod entries;
mod invalidation;
mod numbers;
mod read;
mod refill;
mod tags;

use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use tokio::sync::oneshot;
use verax_core::{Key, NamespaceId, RefillTable, Store};
use verax_origin::OriginError;

pub use batch::{BatchAccess, LARGEST_BATCH, Operation, Outcome};
pub use entries::PutRequest;
pub(crate) use invalidation::Watchers;
pub use invalidation::{Invalidated, InvalidationWatch};
pub use read::{Answer, Cached, ReadOptions, Source};
pub use refill::Refilled;
pub use tags::{InvalidTags, checked_tags, parse_tags, write_tags};

/// What a waiting caller is told.
pub(crate) type Waiter = oneshot::Sender<Result<Refilled, Arc<OriginError>>>;

const GUARD_SHARDS: usize = 32;

/// The store and the refill permits over it.
#[derive(Debug)]
pub(crate) struct Cache {
    pub(crate) store: Store,
    guards: Box<[Mutex<RefillTable<Waiter>>]>,
}

impl Cache {
    pub(crate) fn new(memory_limit: u64, most_waiters: usize) -> Self {
        let guards = (0..GUARD_SHARDS).map(|_| Mutex::new(RefillTable::new(most_waiters)));
        Self { store: Store::new(memory_limit), guards: guards.collect() }
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
