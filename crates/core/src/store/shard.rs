//! One part of a partition, behind one lock.

use std::sync::Arc;

use smallvec::SmallVec;

use super::blob::Blob;
use super::eviction::EvictionPolicy;
use super::index::Index;
use super::metadata::{EntryMetadata, Held, ShardMetadata};
use super::slots::{CHUNK, Chunk, Slots, Times};
use crate::entry::EntryRevision;
use crate::lifetime::{Freshness, Lifetime};
use crate::time::Timestamp;

/// The number of shards of a partition.
pub(super) const SHARDS: usize = 16;

/// Entries with their index, their eviction order, and their ends.
#[derive(Debug, Default)]
pub(super) struct Shard {
    index: Index<u32>,
    pub(super) slots: Slots,
    metadata: ShardMetadata,
    order: EvictionPolicy,
    /// No entry of a chunk ends before this, in milliseconds; for every chunk.
    soonest: Vec<u64>,
    /// The next chunk in the search for entries with invalidated tags.
    invalid_at: usize,
    /// How many chunks that search still has to visit.
    invalid_left: usize,
    /// What blobs take.
    bytes: u64,
    departed: Departed,
    /// The latest revision that an entry of this shard was stored with.
    latest: EntryRevision,
}

/// What has left a shard, to be freed after its lock is released: returning memory to the system
/// can take long.
pub(super) type Departed = SmallVec<[DepartedPart; 2]>;

#[derive(Debug)]
pub(super) enum DepartedPart {
    Blob { _blob: Blob },
    Chunk { _chunk: Box<Chunk> },
    EntryMetadata { _held: Held },
}

/// A new entry, prepared outside the lock.
#[derive(Debug)]
pub(super) struct PreparedEntry {
    pub(super) blob: Blob,
    pub(super) times: Times,
    pub(super) metadata: Option<Held>,
}

impl PreparedEntry {
    /// What it takes beyond a slot.
    pub(super) fn memory(&self) -> u64 {
        self.blob.memory() + self.metadata.as_ref().map_or(0, |e| e.memory())
    }
}

/// The progress of a step of tidying.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Tidied {
    /// How many entries were removed.
    pub(super) freed: u64,
    /// How many chunks were looked at.
    pub(super) chunks: usize,
    /// Whether more waits.
    pub(super) more: bool,
}

impl Tidied {
    /// Adds what another step got done.
    pub(super) fn add(&mut self, other: Self) {
        self.freed += other.freed;
        self.chunks += other.chunks;
        self.more |= other.more;
    }
}

/// Spreads 32 bits over the 64 that the index takes its place and its tag from.
fn spread(hash: u32) -> u64 {
    u64::from(hash).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

impl Shard {
    /// The slot of a key, whether its entry may still be served or not.
    pub(super) fn find(&self, hash: u32, key: &str) -> Option<u32> {
        let same =
            |slot: &u32| self.slots.hash(*slot) == hash && self.slots.blob(*slot).key() == key;
        self.index.find(spread(hash), same).copied()
    }

    fn held(&self, slot: u32) -> Option<&Held> {
        self.slots.metadata(slot).map(|number| self.metadata.held(number))
    }

    pub(super) fn metadata(&self, slot: u32) -> Option<&Arc<EntryMetadata>> {
        self.held(slot).map(Held::metadata)
    }

    /// A share of what a filled slot's entry has beyond the slot.
    pub(super) fn hold_metadata(&self, slot: u32) -> Option<Held> {
        self.held(slot).cloned()
    }

    /// How long a filled slot's entry may be served.
    pub(super) fn lifetime(&self, slot: u32) -> Lifetime {
        let mut lifetime = Lifetime::of(self.slots.times(slot).max_age());
        if let Some(metadata) = self.metadata(slot) {
            lifetime.stale_while_revalidate = metadata.stale_while_revalidate;
            lifetime.stale_if_error = metadata.stale_if_error;
        }
        lifetime
    }

    /// How fresh a filled slot's entry is; ended when one of its tags was invalidated.
    pub(super) fn freshness(&self, slot: u32, now: Timestamp) -> Freshness {
        if self.metadata(slot).is_some_and(|metadata| !metadata.valid()) {
            return Freshness::Ended;
        }
        self.lifetime(slot).freshness(self.slots.times(slot).stored_at(), now)
    }

    /// What a filled slot's entry takes beyond the slot, without what it shares with others.
    pub(super) fn size(&self, slot: u32) -> u64 {
        self.slots.blob(slot).memory()
    }

    fn ends_at(&self, slot: u32) -> u64 {
        let times = self.slots.times(slot);
        let stale = self.metadata(slot).map(|e| e.max_stale()).unwrap_or_default();
        (times.stored_at() + times.max_age() + stale).as_millis()
    }

    fn set_metadata(&mut self, slot: u32, metadata: Option<Held>) {
        let before = self.slots.metadata(slot);
        let number = metadata.map(|metadata| self.metadata.add(metadata));
        self.slots.set_metadata(slot, number);
        if let Some(held) = before.and_then(|before| self.metadata.remove(before)) {
            self.departed.push(DepartedPart::EntryMetadata { _held: held });
        }
    }

    /// Remembers when a filled slot's entry ends; returns that moment.
    fn expect_end(&mut self, slot: u32) -> u64 {
        let (ends_at, chunk) = (self.ends_at(slot), slot as usize / CHUNK);
        if self.soonest.len() <= chunk {
            self.soonest.resize(chunk + 1, u64::MAX);
        }
        self.soonest[chunk] = self.soonest[chunk].min(ends_at);
        ends_at
    }

    /// The times of an entry that is stored now, with a revision that no entry of this shard had
    /// before.
    fn revised(&mut self, times: Times) -> Times {
        self.latest = times.revision().max(self.latest.next());
        times.revised(self.latest)
    }

    /// The latest revision that an entry was stored with.
    pub(super) fn latest_revision(&self) -> EntryRevision {
        self.latest
    }

    /// An empty shard, whose entries get later revisions than those of `emptied`.
    pub(super) fn after(emptied: &Self) -> Self {
        Self { latest: emptied.latest, ..Self::default() }
    }

    /// Stores what is new for a key that is not there; returns when it ends, in milliseconds.
    pub(super) fn insert(&mut self, hash: u32, new: PreparedEntry) -> u64 {
        let size = new.blob.memory();
        self.bytes += size;
        let times = self.revised(new.times);
        let slot = self.slots.fill(hash, new.blob, times);
        self.set_metadata(slot, new.metadata);
        let slots = &self.slots;
        self.index.insert(spread(hash), slot, |other| spread(slots.hash(*other)));
        self.order.add(&mut self.slots, slot, size);
        self.expect_end(slot)
    }

    /// Stores what is new in place of what a filled slot has, which keeps its place in the order of
    /// eviction; returns when it ends, in milliseconds.
    pub(super) fn replace(&mut self, slot: u32, new: PreparedEntry) -> u64 {
        let before = self.size(slot);
        self.bytes += new.blob.memory();
        self.bytes -= self.slots.blob(slot).memory();
        let times = self.revised(new.times);
        if let Some(blob) = self.slots.replace(slot, new.blob, times) {
            self.departed.push(DepartedPart::Blob { _blob: blob });
        }
        self.set_metadata(slot, new.metadata);
        self.order.resize(&self.slots, slot, before, self.size(slot));
        self.expect_end(slot)
    }

    /// Gives a filled slot's entry another lifetime; returns when it ends, in milliseconds.
    pub(super) fn set_lifetime(&mut self, slot: u32, times: Times, metadata: Option<Held>) -> u64 {
        let before = self.size(slot);
        self.slots.set_times(slot, times);
        self.set_metadata(slot, metadata);
        self.order.resize(&self.slots, slot, before, self.size(slot));
        self.expect_end(slot)
    }

    /// Removes a filled slot's entry.
    pub(super) fn remove(&mut self, slot: u32) {
        let size = self.size(slot);
        self.order.remove(&self.slots, slot, size);
        self.set_metadata(slot, None);
        let slots = &self.slots;
        let hash_of = |slot: &u32| spread(slots.hash(*slot));
        self.index.remove(hash_of(&slot), |at| *at == slot, hash_of);
        let (blob, chunk) = self.slots.empty(slot);
        if let Some(blob) = blob {
            self.bytes -= blob.memory();
            self.departed.push(DepartedPart::Blob { _blob: blob });
        }
        if let Some(chunk) = chunk {
            self.departed.push(DepartedPart::Chunk { _chunk: chunk });
        }
        self.soonest.truncate(self.slots.end() as usize / CHUNK);
    }

    /// What has left since the last call, to be dropped after the shard's lock is released.
    pub(super) fn departed(&mut self) -> Departed {
        std::mem::take(&mut self.departed)
    }

    /// Evicts the next entry; returns whether there was one.
    pub(super) fn evict(&mut self) -> bool {
        let size = |slots: &Slots, slot: u32| slots.blob(slot).memory();
        let victim = self.order.victim(&mut self.slots, self.bytes, size);
        if let Some(slot) = victim {
            self.remove(slot);
        }
        victim.is_some()
    }

    /// Removes ended entries from at most `chunks` chunks; tells whether more wait, and otherwise
    /// when the next one ends, in milliseconds.
    pub(super) fn remove_ended(&mut self, chunks: usize, now: Timestamp) -> (Tidied, u64) {
        let mut tidied = Tidied::default();
        let mut next = u64::MAX;
        let mut chunk = 0;
        while chunk < self.soonest.len() {
            if self.soonest[chunk] <= now.as_millis() {
                if tidied.chunks == chunks {
                    tidied.more = true;
                    next = next.min(self.soonest[chunk]);
                    break;
                }
                tidied.chunks += 1;
                let mut soonest = u64::MAX;
                for slot in self.slots.filled_of(chunk).into_iter().flatten() {
                    let ends_at = self.ends_at(slot);
                    if ends_at <= now.as_millis() {
                        self.remove(slot);
                        tidied.freed += 1;
                    } else {
                        soonest = soonest.min(ends_at);
                    }
                }
                // Removing the last entries of a chunk may have removed the chunk.
                if let Some(place) = self.soonest.get_mut(chunk) {
                    *place = soonest;
                }
                next = next.min(soonest);
            } else {
                next = next.min(self.soonest[chunk]);
            }
            chunk += 1;
        }
        (tidied, next)
    }

    /// Starts the search for entries with an invalidated tag: one round from the current chunk. So
    /// a search always ends, however often tags are invalidated meanwhile.
    pub(super) fn expect_invalid(&mut self) {
        self.invalid_left = self.slots.chunks();
    }

    /// Whether the search for entries with invalidated tags goes on.
    pub(super) fn awaits_invalid(&self) -> bool {
        self.invalid_left > 0
    }

    /// Removes entries with invalidated tags from at most `chunks` chunks.
    pub(super) fn remove_invalid(&mut self, chunks: usize) -> Tidied {
        let mut tidied = Tidied::default();
        while tidied.chunks < chunks && self.invalid_left > 0 {
            if self.invalid_at >= self.slots.chunks() {
                self.invalid_at = 0;
            }
            for slot in self.slots.extras_of(self.invalid_at).into_iter().flatten() {
                if self.metadata(slot).is_some_and(|metadata| !metadata.valid()) {
                    self.remove(slot);
                    tidied.freed += 1;
                }
            }
            self.invalid_at += 1;
            self.invalid_left = (self.invalid_left - 1).min(self.slots.chunks());
            tidied.chunks += 1;
        }
        tidied.more = self.invalid_left > 0;
        tidied
    }

    /// How many entries there are.
    pub(super) fn entries(&self) -> u64 {
        self.slots.filled() as u64
    }

    /// All that this shard takes: entries, slots, index and order; without what metadata take,
    /// which their table counts.
    pub(super) fn memory(&self) -> u64 {
        self.bytes
            + self.slots.memory()
            + self.index.memory()
            + self.metadata.memory()
            + self.order.memory()
            + (self.soonest.capacity() * size_of::<u64>()) as u64
    }

    /// Frees one chunk of a shard that is out of use; returns whether there was one.
    pub(super) fn dismantle(&mut self) -> bool {
        self.index = Index::default();
        let metadata = self.metadata.dismantle(CHUNK);
        self.order = EvictionPolicy::default();
        self.soonest = Vec::new();
        match self.slots.pop_chunk() {
            Some(blobs) => {
                for blob in blobs {
                    self.bytes = self.bytes.saturating_sub(blob.memory());
                }
                true
            }
            None => {
                self.bytes = 0;
                metadata
            }
        }
    }
}
