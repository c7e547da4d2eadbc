//! The whole store: its partitions, and the memory that they share.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock, Weak};

use super::memory_budget::MemoryBudget;
use super::partition::Partition;
use super::quota::Quota;
use super::shard::Tidied;
use super::slots::CHUNK;
use super::tenant_memory::{MemoryUser, TenantMemory};
use crate::key::NamespaceId;
use crate::time::Timestamp;

/// The most bytes that one step of tidying evicts while a lowered limit is exceeded.
const SHRINK_STEP: u64 = 256 << 10;

/// Entries of all namespaces within one limit of bytes.
///
/// ```
/// use std::time::Duration;
/// use verax_core::store::{Precondition, Quota, Store};
/// use verax_core::{Entry, Key, Lifetime, NamespaceId, Timestamp};
///
/// let store = Store::new(64 << 20);
/// let quota = Quota { reserve: 8 << 20, cap: 32 << 20, ..Quota::default() };
/// let boards = store.open(NamespaceId(1), quota);
/// let (key, now) = (Key::new("board/aldermouth")?, Timestamp::from_millis(0));
///
/// let entry = Entry::new("[]", "application/json", Lifetime::of(Duration::from_secs(30)), now);
/// boards.put(&key, &entry, Precondition::Always, now)?;
/// assert_eq!(boards.get("board/aldermouth", now).unwrap().value(), b"[]");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct Store {
    budget: Arc<MemoryBudget>,
    partitions: RwLock<Vec<Weak<Partition>>>,
    next_to_tidy: AtomicUsize,
}

impl Store {
    /// An empty store that keeps at most `limit` bytes, bookkeeping included.
    pub fn new(limit: u64) -> Self {
        Self {
            budget: Arc::new(MemoryBudget::new(limit)),
            partitions: RwLock::default(),
            next_to_tidy: AtomicUsize::new(0),
        }
    }

    /// The memory of a new tenant, for [`open_in`](Self::open_in). The caller must keep it.
    pub fn tenant(&self, quota: Quota) -> Arc<TenantMemory> {
        self.budget.tenant(quota)
    }

    /// An empty partition for the only namespace of a tenant.
    pub fn open(&self, namespace: NamespaceId, quota: Quota) -> Arc<Partition> {
        self.open_in(&self.tenant(Quota::default()), namespace, quota)
    }

    /// An empty partition for a namespace of a tenant. The identity is for logs: opening a
    /// namespace twice makes two independent partitions, so the caller must keep it. Its memory is
    /// freed when the last holder drops it.
    pub fn open_in(
        &self,
        tenant: &Arc<TenantMemory>,
        namespace: NamespaceId,
        quota: Quota,
    ) -> Arc<Partition> {
        let (budget, tenant) = (Arc::clone(&self.budget), Arc::clone(tenant));
        let partition = Arc::new(Partition::new(namespace, budget, tenant, quota));
        partition.tenant().join(Arc::downgrade(&partition) as Weak<dyn MemoryUser>);
        let mut partitions = self.partitions.write().unwrap_or_else(PoisonError::into_inner);
        partitions.retain(|partition| partition.strong_count() > 0);
        partitions.push(Arc::downgrade(&partition));
        partition
    }

    fn partitions(&self) -> Vec<Arc<Partition>> {
        let partitions = self.partitions.read().unwrap_or_else(PoisonError::into_inner);
        partitions.iter().filter_map(Weak::upgrade).collect()
    }

    /// Frees expired, cleared and invalidated entries: at most `chunks` chunks of 32 entries, and
    /// as many cleared ones. It continues where the last call ended, so that no partition is always
    /// last. Returns how many entries were freed, and whether there are more. No lock is held for
    /// longer than one such step.
    pub fn tidy(&self, chunks: usize, now: Timestamp) -> (u64, bool) {
        let partitions = self.partitions();
        let mut all = Tidied { more: self.budget.reclaim(chunks), ..Tidied::default() };
        let first = self.next_to_tidy.load(Ordering::Relaxed);
        let mut next = first + 1;
        for at in 0..partitions.len() {
            if all.chunks >= chunks {
                (next, all.more) = (first + at, true);
                break;
            }
            let partition = &partitions[(first + at) % partitions.len()];
            all.add(partition.tidy(chunks - all.chunks, now));
        }
        // The quota of a tenant may have been lowered, or the limit.
        for tenant in self.budget.tenants() {
            let (evicted, more) = tenant.shrink(chunks.saturating_sub(all.chunks) * CHUNK);
            all.freed += evicted;
            all.chunks += (evicted as usize).div_ceil(CHUNK);
            all.more |= more;
        }
        if self.budget.used() > self.budget.limit() && all.chunks < chunks {
            all.more |= self.budget.shrink(SHRINK_STEP);
        }
        self.budget.note_shrunk();
        self.next_to_tidy.store(next % partitions.len().max(1), Ordering::Relaxed);
        (all.freed, all.more)
    }

    /// The limit in bytes.
    pub fn limit(&self) -> u64 {
        self.budget.limit()
    }

    /// Sets the limit in bytes. Above it, the store does not grow, and shrinks with writes and
    /// tidying.
    pub fn set_limit(&self, limit: u64) {
        self.budget.set_limit(limit);
    }

    /// The bytes in use, including bookkeeping and cleared entries that are not freed yet.
    pub fn used(&self) -> u64 {
        self.budget.used()
    }

    /// How many entries were evicted since the store was made.
    pub fn evicted(&self) -> u64 {
        self.budget.evicted.load(Ordering::Relaxed)
    }
}
