//! The store: entries of all namespaces within one limit of bytes.
//!
//! [`Store`] is the interface that the rest of Verax is built on. What lies behind it, the shards
//! and their order of eviction, may change without anything outside noticing.

mod listing;
mod recency;
mod shard;

use std::hash::{BuildHasher, RandomState};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::entry::{EntityTag, Entry};
use crate::key::{Key, NamespaceId};
use crate::lifetime::Freshness;
use crate::time::Timestamp;

pub use listing::{Listed, Listing};

use shard::Shard;

const SHARDS: usize = 64;

/// An entry that was found, and what it is good for at the moment of the look-up.
#[derive(Debug, Clone)]
pub struct Found {
    /// The entry.
    pub entry: Entry,
    /// What it is good for; never [`Freshness::Ended`].
    pub freshness: Freshness,
}

/// What must hold for a value to be stored (RFC 9110, section 13).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PutCondition {
    /// Store it whatever is there.
    Always,
    /// Store it only if no entry is there (`If-None-Match: *`).
    IfAbsent,
    /// Store it only if the entry there has this entity tag (`If-Match`).
    IfMatches(EntityTag),
}

/// Why a value was not stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PutError {
    /// The entry alone is larger than the whole store.
    #[error("the entry needs {size} bytes, more than the whole store's limit of {limit} bytes")]
    TooLarge {
        /// What the entry would take, with its bookkeeping.
        size: u64,
        /// The store's limit.
        limit: u64,
    },
    /// The condition does not hold.
    #[error("the condition for storing does not hold: the entry there is not the expected one")]
    ConditionFailed,
}

/// What a namespace holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Usage {
    /// How many entries, ended ones that have not been swept yet included.
    pub entries: u64,
    /// The memory they take, in bytes, with bookkeeping.
    pub bytes: u64,
}

/// Entries of all namespaces within one limit of bytes.
///
/// When a value does not fit, entries that were not read for longest make room. Ended entries are
/// never returned; [`sweep`](Store::sweep) frees them in small steps.
#[derive(Debug)]
pub struct Store {
    shards: Box<[Mutex<Shard>]>,
    hashing: RandomState,
    limit: u64,
    used: AtomicU64,
    evicted: AtomicU64,
    next_to_evict: AtomicUsize,
    next_to_sweep: AtomicUsize,
}

impl Store {
    /// An empty store that keeps at most `limit` bytes, bookkeeping included.
    pub fn new(limit: u64) -> Self {
        Self {
            shards: (0..SHARDS).map(|_| Mutex::new(Shard::default())).collect(),
            hashing: RandomState::new(),
            limit,
            used: AtomicU64::new(0),
            evicted: AtomicU64::new(0),
            next_to_evict: AtomicUsize::new(0),
            next_to_sweep: AtomicUsize::new(0),
        }
    }

    fn hash(&self, namespace: NamespaceId, key: &str) -> u64 {
        self.hashing.hash_one((namespace, key))
    }

    fn shard(&self, index: usize) -> MutexGuard<'_, Shard> {
        // A panic while a shard is locked cannot leave it half-changed in a way that matters: the
        // worst is an entry that is no longer found, which a cache may lose at any time.
        self.shards[index % SHARDS].lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn shard_of(&self, hash: u64) -> MutexGuard<'_, Shard> {
        self.shard((hash >> 57) as usize)
    }

    /// Looks an entry up, and counts as a use of it. Ended entries are not found.
    pub fn get(&self, namespace: NamespaceId, key: &Key, now: Timestamp) -> Option<Found> {
        let hash = self.hash(namespace, key.as_str());
        let mut shard = self.shard_of(hash);
        let slot = shard.find(hash, namespace, key.as_str())?;
        let freshness = shard.entry(slot).freshness(now);
        if freshness == Freshness::Ended {
            self.release(shard.remove(slot));
            return None;
        }
        shard.touch(slot);
        Some(Found { entry: shard.entry(slot).clone(), freshness })
    }

    /// Looks an entry up without counting as a use of it.
    pub fn peek(&self, namespace: NamespaceId, key: &Key, now: Timestamp) -> Option<Found> {
        let hash = self.hash(namespace, key.as_str());
        let shard = self.shard_of(hash);
        let entry = shard.entry(shard.find(hash, namespace, key.as_str())?).clone();
        let freshness = entry.freshness(now);
        (freshness != Freshness::Ended).then_some(Found { entry, freshness })
    }

    /// Stores an entry in place of whatever is there, and makes room for it where needed.
    /// Returns whether it replaced one.
    ///
    /// # Errors
    /// [`PutError`] when the entry can never fit or `condition` does not hold; nothing changes then.
    pub fn put(
        &self,
        namespace: NamespaceId,
        key: &Key,
        entry: Entry,
        condition: PutCondition,
        now: Timestamp,
    ) -> Result<bool, PutError> {
        let size = shard::size_of_entry(key.as_str(), &entry);
        if size > self.limit {
            return Err(PutError::TooLarge { size, limit: self.limit });
        }
        let hash = self.hash(namespace, key.as_str());
        let replaced = {
            let mut shard = self.shard_of(hash);
            let there = shard.find(hash, namespace, key.as_str());
            let live = there.filter(|slot| shard.entry(*slot).freshness(now) != Freshness::Ended);
            let holds = match condition {
                PutCondition::Always => true,
                PutCondition::IfAbsent => live.is_none(),
                PutCondition::IfMatches(tag) => {
                    live.is_some_and(|slot| shard.entry(slot).entity_tag == tag)
                }
            };
            if !holds {
                return Err(PutError::ConditionFailed);
            }
            if let Some(slot) = there {
                self.release(shard.remove(slot));
            }
            self.used.fetch_add(size, Ordering::Relaxed);
            shard.insert(hash, namespace, key.as_str(), entry, size);
            live.is_some()
        };
        self.make_room();
        Ok(replaced)
    }

    /// Removes an entry; returns whether a live one was there.
    pub fn delete(&self, namespace: NamespaceId, key: &Key, now: Timestamp) -> bool {
        let hash = self.hash(namespace, key.as_str());
        let mut shard = self.shard_of(hash);
        let Some(slot) = shard.find(hash, namespace, key.as_str()) else { return false };
        let live = shard.entry(slot).freshness(now) != Freshness::Ended;
        self.release(shard.remove(slot));
        live
    }

    /// Removes every entry of a namespace; returns how many there were.
    pub fn clear(&self, namespace: NamespaceId) -> u64 {
        let mut entries = 0;
        for index in 0..SHARDS {
            let removed = self.shard(index).remove_namespace(namespace);
            self.release(removed.bytes);
            entries += removed.entries;
        }
        entries
    }

    /// Frees ended entries, looking at `steps` places; returns how many were freed. Called often
    /// with few steps, it goes round the whole store without a pause that anyone would notice.
    pub fn sweep(&self, steps: usize, now: Timestamp) -> u64 {
        let each = steps.div_ceil(SHARDS).max(1);
        let mut freed = Usage::default();
        for _ in 0..SHARDS.min(steps) {
            let index = self.next_to_sweep.fetch_add(1, Ordering::Relaxed);
            let part = self.shard(index).sweep(each, now);
            freed.entries += part.entries;
            freed.bytes += part.bytes;
        }
        self.release(freed.bytes);
        freed.entries
    }

    fn release(&self, bytes: u64) {
        self.used.fetch_sub(bytes, Ordering::Relaxed);
    }

    fn make_room(&self) {
        while self.used.load(Ordering::Relaxed) > self.limit {
            let index = self.next_to_evict.fetch_add(1, Ordering::Relaxed);
            let evicted = self.shard(index).remove_least_recent();
            if let Some(bytes) = evicted {
                self.release(bytes);
                self.evicted.fetch_add(1, Ordering::Relaxed);
            }
        }
    }

    /// The entries of a namespace whose keys start with `prefix` and come after `after`, in the
    /// order of their keys, at most `most` of them. Keys that come and go meanwhile may be missed or
    /// listed; all others are listed exactly once over the pages.
    pub fn list(
        &self,
        namespace: NamespaceId,
        prefix: &str,
        after: Option<&str>,
        most: usize,
        now: Timestamp,
    ) -> Listing {
        let mut page = listing::Page::new(most);
        for index in 0..SHARDS {
            self.shard(index).each(namespace, |key, entry, size| {
                let wanted = key.starts_with(prefix) && after.is_none_or(|a| key > a);
                if wanted && page.admits(key) && entry.freshness(now) != Freshness::Ended {
                    page.add(key, entry, size);
                }
            });
        }
        page.finish(now)
    }

    /// What a namespace holds.
    pub fn usage(&self, namespace: NamespaceId) -> Usage {
        let mut sum = Usage::default();
        for index in 0..SHARDS {
            let part = self.shard(index).usage(namespace);
            sum.entries += part.entries;
            sum.bytes += part.bytes;
        }
        sum
    }

    /// The limit in bytes.
    pub fn limit(&self) -> u64 {
        self.limit
    }

    /// The bytes in use, bookkeeping included.
    pub fn used(&self) -> u64 {
        self.used.load(Ordering::Relaxed)
    }

    /// How many entries were removed to make room since the store was made.
    pub fn evicted(&self) -> u64 {
        self.evicted.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests;
