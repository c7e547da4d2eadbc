//! SIEVE: Zhang et al., "SIEVE is Simpler than LRU", NSDI 2024.

use std::collections::{BTreeMap, HashMap};

use super::policy::Policy;

#[derive(Debug)]
struct Held {
    size: u32,
    visited: bool,
}

/// One queue in order of arrival; a hand moves from the oldest to the newest, spares what was
/// requested since it last came by, and evicts the first that was not.
#[derive(Debug)]
pub(crate) struct Sieve {
    capacity: u64,
    used: u64,
    clock: u64,
    hand: u64,
    entries: HashMap<u64, Held>,
    by_arrival: BTreeMap<u64, u64>,
}

impl Sieve {
    pub(crate) fn new(capacity: u64) -> Self {
        let (entries, by_arrival) = (HashMap::new(), BTreeMap::new());
        Self { capacity, used: 0, clock: 0, hand: 0, entries, by_arrival }
    }

    fn evict(&mut self) {
        loop {
            let next = self.by_arrival.range(self.hand..).next();
            let Some((&at, &key)) = next.or_else(|| self.by_arrival.first_key_value()) else {
                return;
            };
            self.hand = at + 1;
            let Some(held) = self.entries.get_mut(&key) else { return };
            if !std::mem::take(&mut held.visited) {
                self.used -= u64::from(held.size);
                self.entries.remove(&key);
                self.by_arrival.remove(&at);
                return;
            }
        }
    }
}

impl Policy for Sieve {
    fn request(&mut self, key: u64, size: u32) -> bool {
        if let Some(held) = self.entries.get_mut(&key) {
            held.visited = true;
            return true;
        }
        if u64::from(size) <= self.capacity {
            while self.used + u64::from(size) > self.capacity {
                self.evict();
            }
            self.clock += 1;
            self.entries.insert(key, Held { size, visited: false });
            self.by_arrival.insert(self.clock, key);
            self.used += u64::from(size);
        }
        false
    }
}
