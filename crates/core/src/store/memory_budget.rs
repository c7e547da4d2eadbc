//! The memory of the whole store: how much there is, who uses it, and which
//! namespaces lose entries when it is full.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock, Weak};

use serde::{Deserialize, Serialize};

use super::bound::Bound;
use super::shard::Shard;

/// When memory is full, this part of the limit is freed in one go, so that the namespace to evict
/// from is computed rarely; at most [`MAX_SLACK`], since one writer waits for it.
const SLACK_PART: u64 = 1_024;
const MAX_SLACK: u64 = 16 << 10;

/// The most entries that a writer evicts from its namespace, beyond its own size, while that
/// exceeds its cap.
const MAX_SHRINK: usize = 64;

/// What a namespace is guaranteed and may never exceed, in bytes, bookkeeping included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Quota {
    /// Memory that no other namespace can push this one below.
    pub reserve: u64,
    /// Memory that this namespace never exceeds.
    pub cap: u64,
}

impl Default for Quota {
    /// No reserve and no cap.
    fn default() -> Self {
        Self { reserve: 0, cap: u64::MAX }
    }
}

/// A user of the budget, from which entries can be evicted.
pub(super) trait BudgetMember: std::fmt::Debug + Send + Sync {
    /// Its use, in bytes.
    fn used(&self) -> u64;

    /// What it is guaranteed, and may never exceed.
    fn quota(&self) -> Quota;

    /// Evicts at most `max` entries while it is above its cap.
    fn keep_to_cap(&self, max: usize);

    /// Evicts an entry; returns whether there was one.
    fn evict(&self) -> bool;
}

/// The memory of a store, shared by its partitions.
#[derive(Debug)]
pub(super) struct MemoryBudget {
    limit: Bound,
    pub(super) used: Arc<AtomicU64>,
    pub(super) evicted: AtomicU64,
    members: RwLock<Vec<Weak<dyn BudgetMember>>>,
    /// Retired shards that still take memory.
    leaving: Mutex<VecDeque<Box<Shard>>>,
}

impl MemoryBudget {
    pub(super) fn new(limit: u64) -> Self {
        Self {
            limit: Bound::new(limit),
            used: Arc::default(),
            evicted: AtomicU64::new(0),
            members: RwLock::default(),
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
        self.used.load(Ordering::Relaxed)
    }

    pub(super) fn join(&self, member: Weak<dyn BudgetMember>) {
        let mut members = self.members.write().unwrap_or_else(PoisonError::into_inner);
        members.retain(|member| member.strong_count() > 0);
        members.push(member);
    }

    fn members(&self) -> Vec<Arc<dyn BudgetMember>> {
        let members = self.members.read().unwrap_or_else(PoisonError::into_inner);
        members.iter().filter_map(Weak::upgrade).collect()
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
            self.used.fetch_sub(before - left, Ordering::Relaxed);
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
    /// namespace furthest over its reserve. A namespace within its reserve loses nothing to others;
    /// when no other namespace is over its reserve, the writer's own entries are evicted.
    pub(super) fn enforce(&self, writer: &impl BudgetMember) {
        writer.keep_to_cap(MAX_SHRINK);
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

    /// Evicts entries of the namespace furthest over its reserve, until another one is as far over
    /// or the total falls to `target`; returns whether there was one.
    fn take_from_others(&self, target: u64) -> bool {
        let over = |member: &dyn BudgetMember| member.used().saturating_sub(member.quota().reserve);
        let members = self.members();
        let mut excess: Vec<_> = members
            .iter()
            .map(|member| (over(&**member), &**member))
            .filter(|(over, _)| *over > 0)
            .collect();
        excess.sort_unstable_by_key(|(over, _)| std::cmp::Reverse(*over));
        // A namespace that is over its reserve by bookkeeping alone has no entries to evict: the
        // next one does.
        excess.iter().enumerate().any(|(at, (_, member))| {
            // Until another one is as far over its reserve.
            let next = excess.get(at + 1).map_or(0, |(over, _)| *over).max(1);
            let mut gave = false;
            while self.used() > target && (over(*member) >= next || !gave) && member.evict() {
                gave = true;
            }
            gave
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
