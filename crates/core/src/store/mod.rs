//! The store: entries of all namespaces within one limit of bytes.
//!
//! A [`Store`] is opened for each namespace, which gives its [`Partition`]: the entries of that
//! namespace and no others, and every operation on them. A partition is cut into shards, each
//! behind a lock that hits only share. In a shard, an index leads from the hash of a key to a
//! numbered slot; the slot holds times, marks for the order of eviction, and a pointer to key and
//! value, which readers share. What few entries have (tags, stale times, unusual media types)
//! stands beside.
//!
//! * Memory: everything is counted, and [`Quota`] says who is guaranteed what. When it runs out,
//!   who is most over its reserve gives.
//! * Eviction: newcomers must prove themselves in a small window before they reach the main part.
//! * Expiry: exact on read. Each chunk of slots knows when its first entry ends, so that
//!   [`Store::tidy`] finds what has ended without a search, in small steps.
//! * Clearing a namespace or invalidating a tag takes the same short time however many entries are
//!   concerned; their memory comes back by [`Store::tidy`].

// The header of every entry is worth it; the module says why each step is sound.
#[allow(unsafe_code)]
mod blob;
mod bound;
mod counters;
mod eviction;
mod found;
mod index;
mod listing;
mod memory;
mod memory_budget;
mod metadata;
mod partition;
mod precondition;
mod rate_limits;
mod shard;
mod slots;

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::entry::EntryRevision;
use crate::key::NamespaceId;
use crate::time::Timestamp;

pub use counters::{AddError, Counted};
pub use found::EntryRef;
pub use listing::{InvalidPosition, ListedEntry, Listing, Position};
pub use memory_budget::Quota;
pub use partition::{EntryView, Partition};
pub use rate_limits::{
    InvalidRate, MAX_RATE_COUNT, MAX_RATE_PERIOD, Rate, RateLimitError, RateLimitOutcome,
};

use memory_budget::MemoryBudget;
pub use precondition::{ConditionFailed, Precondition};
use shard::Tidied;

/// How many bytes one step of tidying frees at most while more is used than a lowered limit allows.
const SHRINK_STEP: u64 = 256 << 10;

/// What a put did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PutOutcome {
    /// Whether there was an entry, which it replaced.
    pub replaced: bool,
    /// The revision that the new entry is stored with.
    pub revision: EntryRevision,
}

/// Why a value was not stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PutError {
    /// The entry alone is larger than the whole store, or than its namespace's cap.
    #[error("the entry needs {size} bytes, more than the limit of {limit} bytes for all entries")]
    TooLarge {
        /// What the entry would take, with its bookkeeping.
        size: u64,
        /// The store's limit, or the namespace's cap.
        limit: u64,
    },
    /// The condition does not hold.
    #[error("the condition for storing does not hold: the entry there is not the expected one")]
    ConditionFailed,
}

/// What a namespace holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Usage {
    /// How many entries, with those that ended and were not tidied up yet.
    pub entries: u64,
    /// The memory they take, in bytes, with bookkeeping.
    pub bytes: u64,
}

/// Entries of all namespaces within one limit of bytes.
///
/// ```
/// use std::time::Duration;
/// use verax_core::store::{Precondition, Quota, Store};
/// use verax_core::{Entry, Key, Lifetime, NamespaceId, Timestamp};
///
/// let store = Store::new(64 << 20);
/// let boards = store.open(NamespaceId(1), Quota { reserve: 8 << 20, cap: 32 << 20 });
/// let (key, now) = (Key::new("board/aldermouth")?, Timestamp::from_millis(0));
///
/// let entry = Entry::new("[]", "application/json", Lifetime::of(Duration::from_secs(30)), now);
/// boards.put(&key, &entry, Precondition::Always, now)?;
/// assert_eq!(boards.get("board/aldermouth", now).unwrap().value(), b"[]");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct Store {
    room: Arc<MemoryBudget>,
    next_to_tidy: AtomicUsize,
}

impl Store {
    /// An empty store that keeps at most `limit` bytes, bookkeeping included.
    pub fn new(limit: u64) -> Self {
        Self { room: Arc::new(MemoryBudget::new(limit)), next_to_tidy: AtomicUsize::new(0) }
    }

    /// An empty partition for a namespace. The identity is what tells partitions apart in a log;
    /// opening one twice gives two that know nothing of each other, so the caller keeps it. It
    /// ends, and its memory comes back, when the last holder drops it.
    pub fn open(&self, namespace: NamespaceId, quota: Quota) -> Arc<Partition> {
        let partition = Arc::new(Partition::new(namespace, Arc::clone(&self.room), quota));
        self.room.join(&partition);
        partition
    }

    /// Frees what ended, was cleared or was invalidated: at most `chunks` chunks of 32 entries, and
    /// as many of what was cleared. It goes on where the last call ended, so that none is always
    /// last. Returns how many entries were freed, and whether more wait. No lock is held for longer
    /// than one such step.
    pub fn tidy(&self, chunks: usize, now: Timestamp) -> (u64, bool) {
        let partitions = self.room.partitions();
        let mut all = Tidied { more: self.room.reclaim(chunks), ..Tidied::default() };
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
        // The limit may have been lowered.
        if self.room.used() > self.room.limit() && all.chunks < chunks {
            all.more |= self.room.shrink(SHRINK_STEP);
        }
        self.room.note_shrunk();
        self.next_to_tidy.store(next % partitions.len().max(1), Ordering::Relaxed);
        (all.freed, all.more)
    }

    /// The limit in bytes.
    pub fn limit(&self) -> u64 {
        self.room.limit()
    }

    /// Sets the limit in bytes. Above it the store grows no further, and shrinks as it is written
    /// to and tidied.
    pub fn set_limit(&self, limit: u64) {
        self.room.set_limit(limit);
    }

    /// The bytes in use, with bookkeeping and with what was cleared and not given back yet.
    pub fn used(&self) -> u64 {
        self.room.used()
    }

    /// How many entries were removed to make room since the store was made.
    pub fn evicted(&self) -> u64 {
        self.room.evicted.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests;
