//! The memory of the whole store: how much there is, who uses it, and which tenants lose entries
//! when it is full.

use std::collections::VecDeque;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock, Weak};

use super::account::Account;
use super::bound::Bound;
use super::quota::Quota;
use super::shard::Shard;
use super::tenant_memory::{MemoryUser, TenantMemory};

/// When memory is full, this part of the limit is freed in one go, so that the tenant to evict from
/// is computed rarely; at most [`MAX_SLACK`], since one writer waits for it.
const SLACK_PART: u64 = 1_024;
const MAX_SLACK: u64 = 16 << 10;

/// The memory of a store, shared by its tenants.
#[derive(Debug)]
pub(super) struct MemoryBudget {
    limit: Bound,
    whole: Arc<Account>,
    pub(super) evicted: AtomicU64,
    tenants: RwLock<Vec<Weak<TenantMemory>>>,
    /// Retired shards that still take memory.
    leaving: Mutex<VecDeque<Box<Shard>>>,
}

impl MemoryBudget {
    pub(super) fn new(limit: u64) -> Self {
        Self {
            limit: Bound::new(limit),
            whole: Arc::default(),
            evicted: AtomicU64::new(0),
            tenants: RwLock::default(),
            leaving: Mutex::default(),
        }
    }

    pub(super) fn limit(&self) -> u64 {
        self.limit.get()
    }

    pub(super) fn set_limit(&self, limit: u64) {
        self.limit.set(limit, self.used());
    }

    pub(super) fn used(&self) -> u64 {
        self.whole.bytes()
    }

    /// The memory of a new tenant.
    pub(super) fn tenant(&self, quota: Quota) -> Arc<TenantMemory> {
        let tenant = Arc::new(TenantMemory::new(&self.whole, quota));
        let mut tenants = self.tenants.write().unwrap_or_else(PoisonError::into_inner);
        tenants.retain(|tenant| tenant.strong_count() > 0);
        tenants.push(Arc::downgrade(&tenant));
        tenant
    }

    pub(super) fn tenants(&self) -> Vec<Arc<TenantMemory>> {
        let tenants = self.tenants.read().unwrap_or_else(PoisonError::into_inner);
        tenants.iter().filter_map(Weak::upgrade).collect()
    }

    /// Accepts a shard that is out of use: its memory is freed bit by bit.
    pub(super) fn retire(&self, shard: Shard) {
        if shard.memory() > 0 {
            self.leaving().push_back(Box::new(shard));
        }
    }

    /// Frees at most `chunks` chunks of retired shards; returns whether more is left.
    pub(super) fn reclaim(&self, chunks: usize) -> bool {
        for _ in 0..chunks {
            // Taken out of the queue, so that nobody waits while it is freed.
            let Some(mut shard) = self.leaving().pop_front() else { return false };
            let before = shard.memory();
            let more = shard.dismantle();
            let left = if more { shard.memory().min(before) } else { 0 };
            self.whole.refund(before - left);
            if more {
                self.leaving().push_front(shard);
            }
        }
        !self.leaving().is_empty()
    }

    fn leaving(&self) -> MutexGuard<'_, VecDeque<Box<Shard>>> {
        self.leaving.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Enforces the limit after a write: frees retired shards first, then evicts entries from the
    /// tenant furthest over what it is guaranteed. A tenant and a namespace within their reserves
    /// lose nothing to others; when no other is over its reserve, the writer's own entries are
    /// evicted.
    pub(super) fn enforce(&self, writer: &impl MemoryUser) {
        let most = self.limit.most();
        while self.used() > most && self.reclaim(16) {}
        if self.used() > most {
            let target = most - (self.limit() / SLACK_PART).min(MAX_SLACK);
            while self.used() > target {
                if !self.take_from_others(target) {
                    while self.used() > target && writer.evict() {}
                    break;
                }
            }
        }
        self.limit.shrunk_to(self.used());
    }

    /// Evicts entries of the tenant furthest over what it is guaranteed, until another one is as
    /// far over or the total falls to `target`; returns whether there was one.
    fn take_from_others(&self, target: u64) -> bool {
        let mut excess: Vec<_> = self
            .tenants()
            .into_iter()
            .map(|tenant| (tenant.used().saturating_sub(tenant.guaranteed()), tenant))
            .filter(|(over, _)| *over > 0)
            .collect();
        excess.sort_unstable_by_key(|(over, _)| std::cmp::Reverse(*over));
        excess.iter().enumerate().any(|(at, (over, tenant))| {
            // Until another one is as far over.
            let next = excess.get(at + 1).map_or(0, |(over, _)| *over).max(1);
            let least = tenant.used() - (over - next).min(tenant.used());
            tenant.take(|| self.used() > target && tenant.used() >= least)
        })
    }

    /// Notes what was freed, so that it is not used again while the limit is exceeded.
    pub(super) fn note_shrunk(&self) {
        self.limit.shrunk_to(self.used());
    }

    /// Evicts about this many bytes while a lowered limit is exceeded; returns whether it still is.
    pub(super) fn shrink(&self, bytes: u64) -> bool {
        let used = self.used();
        let target = self.limit().max(used.saturating_sub(bytes));
        while self.used() > target && self.take_from_others(target) {}
        self.used() > self.limit() && self.used() < used
    }
}
