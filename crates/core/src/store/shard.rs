//! One part of the store, behind one lock.

use std::collections::HashMap;

use hashbrown::HashTable;

use super::Usage;
use super::recency::{Link, Recency};
use crate::entry::Entry;
use crate::key::NamespaceId;
use crate::lifetime::Freshness;
use crate::time::Timestamp;

#[derive(Debug)]
struct Slot {
    hash: u64,
    namespace: NamespaceId,
    key: Box<str>,
    entry: Entry,
    size: u64,
}

/// What an entry takes beyond key, value, media type and tags: its slot, its links, its place in
/// the index at a load of 7/8, and the headers of four separate allocations.
const BOOKKEEPING: usize =
    size_of::<Option<Slot>>() + size_of::<Link>() + 6 + 4 * 2 * size_of::<usize>();

/// What an entry takes in the store, in bytes.
pub(super) fn size_of_entry(key: &str, entry: &Entry) -> u64 {
    let tags: usize = entry.tags.iter().map(|t| t.len() + 4 * size_of::<usize>()).sum();
    let bytes = BOOKKEEPING + key.len() + entry.value.len() + entry.media_type.len() + tags;
    bytes as u64
}

/// Entries with their index, their order of last use, and their usage by namespace.
#[derive(Debug, Default)]
pub(super) struct Shard {
    index: HashTable<u32>,
    slots: Vec<Option<Slot>>,
    free: Vec<u32>,
    recency: Recency,
    usage: HashMap<NamespaceId, Usage>,
    sweep_at: usize,
}

impl Shard {
    fn slot(&self, slot: u32) -> &Slot {
        match &self.slots[slot as usize] {
            Some(slot) => slot,
            None => unreachable!("slot {slot} is in the index, so it is filled"),
        }
    }

    /// The slot of a key.
    pub(super) fn find(&self, hash: u64, namespace: NamespaceId, key: &str) -> Option<u32> {
        let same = |slot: &u32| {
            let slot = self.slot(*slot);
            slot.namespace == namespace && *slot.key == *key
        };
        self.index.find(hash, same).copied()
    }

    /// The entry in a filled slot.
    pub(super) fn entry(&self, slot: u32) -> &Entry {
        &self.slot(slot).entry
    }

    /// Counts a use of a filled slot.
    pub(super) fn touch(&mut self, slot: u32) {
        self.recency.touch(slot);
    }

    /// Fills a slot with an entry whose key is not there yet.
    pub(super) fn insert(
        &mut self,
        hash: u64,
        namespace: NamespaceId,
        key: &str,
        entry: Entry,
        size: u64,
    ) {
        let filled = Slot { hash, namespace, key: key.into(), entry, size };
        let slot = match self.free.pop() {
            Some(slot) => {
                self.slots[slot as usize] = Some(filled);
                slot
            }
            None => {
                self.slots.push(Some(filled));
                (self.slots.len() - 1) as u32
            }
        };
        let slots = &self.slots;
        let rehash = |s: &u32| slots[*s as usize].as_ref().map_or(0, |s| s.hash);
        self.index.insert_unique(hash, slot, rehash);
        self.recency.add(slot);
        let usage = self.usage.entry(namespace).or_default();
        usage.entries += 1;
        usage.bytes += size;
    }

    /// Empties a filled slot; returns the bytes it took.
    pub(super) fn remove(&mut self, slot: u32) -> u64 {
        let Some(removed) = self.slots[slot as usize].take() else { return 0 };
        if let Ok(place) = self.index.find_entry(removed.hash, |s| *s == slot) {
            place.remove();
        }
        self.recency.remove(slot);
        self.free.push(slot);
        if let Some(usage) = self.usage.get_mut(&removed.namespace) {
            usage.entries -= 1;
            usage.bytes -= removed.size;
            if usage.entries == 0 {
                self.usage.remove(&removed.namespace);
            }
        }
        removed.size
    }

    /// Empties the slot that was not used for longest.
    pub(super) fn remove_least_recent(&mut self) -> Option<u64> {
        self.recency.least_recent().map(|slot| self.remove(slot))
    }

    /// Empties every slot of a namespace.
    pub(super) fn remove_namespace(&mut self, namespace: NamespaceId) -> Usage {
        let before = self.usage(namespace);
        if before.entries > 0 {
            for slot in 0..self.slots.len() as u32 {
                if self.slots[slot as usize].as_ref().is_some_and(|s| s.namespace == namespace) {
                    self.remove(slot);
                }
            }
        }
        before
    }

    /// Empties ended slots among the next `steps`, going round.
    pub(super) fn sweep(&mut self, steps: usize, now: Timestamp) -> Usage {
        let mut freed = Usage::default();
        for _ in 0..steps.min(self.slots.len()) {
            self.sweep_at = (self.sweep_at + 1) % self.slots.len();
            let ended = self.slots[self.sweep_at]
                .as_ref()
                .is_some_and(|s| s.entry.freshness(now) == Freshness::Ended);
            if ended {
                freed.bytes += self.remove(self.sweep_at as u32);
                freed.entries += 1;
            }
        }
        freed
    }

    /// Shows every entry of a namespace, in no order.
    pub(super) fn each(&self, namespace: NamespaceId, mut show: impl FnMut(&str, &Entry, u64)) {
        if self.usage.contains_key(&namespace) {
            for slot in self.slots.iter().flatten().filter(|s| s.namespace == namespace) {
                show(&slot.key, &slot.entry, slot.size);
            }
        }
    }

    /// What a namespace holds here.
    pub(super) fn usage(&self, namespace: NamespaceId) -> Usage {
        self.usage.get(&namespace).copied().unwrap_or_default()
    }
}
