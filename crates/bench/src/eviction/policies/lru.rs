//! Least recently used: the reference that every policy must beat.

use std::collections::{BTreeMap, HashMap};

use super::policy::Policy;

/// Evicts the least recently requested key.
#[derive(Debug)]
pub(crate) struct Lru {
    capacity: u64,
    used: u64,
    clock: u64,
    /// Last use and size by key.
    entries: HashMap<u64, (u64, u32)>,
    by_use: BTreeMap<u64, u64>,
}

impl Lru {
    pub(crate) fn new(capacity: u64) -> Self {
        Self { capacity, used: 0, clock: 0, entries: HashMap::new(), by_use: BTreeMap::new() }
    }

    /// Removes a key; returns its size.
    pub(crate) fn remove(&mut self, key: u64) -> Option<u32> {
        let (at, size) = self.entries.remove(&key)?;
        self.by_use.remove(&at);
        self.used -= u64::from(size);
        Some(size)
    }

    /// Makes a key the most recent.
    pub(crate) fn add(&mut self, key: u64, size: u32) {
        self.remove(key);
        self.clock += 1;
        self.entries.insert(key, (self.clock, size));
        self.by_use.insert(self.clock, key);
        self.used += u64::from(size);
    }

    pub(crate) fn contains(&self, key: u64) -> bool {
        self.entries.contains_key(&key)
    }

    pub(crate) fn oldest(&self) -> Option<u64> {
        self.by_use.first_key_value().map(|(_, key)| *key)
    }

    pub(crate) fn used(&self) -> u64 {
        self.used
    }

    pub(crate) fn capacity(&self) -> u64 {
        self.capacity
    }

    pub(crate) fn overfull(&self) -> bool {
        self.used > self.capacity
    }
}

impl Policy for Lru {
    fn request(&mut self, key: u64, size: u32) -> bool {
        let hit = self.contains(key);
        if u64::from(size) <= self.capacity {
            self.add(key, size);
        }
        while self.overfull() {
            if let Some(oldest) = self.oldest() {
                self.remove(oldest);
            }
        }
        hit
    }
}
