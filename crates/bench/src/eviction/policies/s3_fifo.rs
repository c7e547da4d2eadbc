//! S3-FIFO: Yang et al., "FIFO queues are all you need for cache eviction", SOSP 2023.

use std::collections::{HashMap, HashSet, VecDeque};

use super::policy::Policy;

#[derive(Debug)]
struct Held {
    size: u32,
    requests: u8,
}

/// A small queue for newcomers, a main queue for what was requested again, and a ghost queue of
/// keys that left the small one, whose return goes straight to the main queue.
#[derive(Debug)]
pub(crate) struct S3Fifo {
    capacity: u64,
    small: VecDeque<u64>,
    main: VecDeque<u64>,
    ghost: VecDeque<u64>,
    remembered: HashSet<u64>,
    entries: HashMap<u64, Held>,
    small_bytes: u64,
    main_bytes: u64,
}

impl S3Fifo {
    pub(crate) fn new(capacity: u64) -> Self {
        Self {
            capacity,
            small: VecDeque::new(),
            main: VecDeque::new(),
            ghost: VecDeque::new(),
            remembered: HashSet::new(),
            entries: HashMap::new(),
            small_bytes: 0,
            main_bytes: 0,
        }
    }

    fn remember(&mut self, key: u64) {
        self.ghost.push_back(key);
        self.remembered.insert(key);
        while self.ghost.len() > self.main.len().max(16) {
            if let Some(oldest) = self.ghost.pop_front() {
                self.remembered.remove(&oldest);
            }
        }
    }

    fn evict_small(&mut self) {
        while let Some(key) = self.small.pop_front() {
            let Some(held) = self.entries.get_mut(&key) else { continue };
            self.small_bytes -= u64::from(held.size);
            if held.requests > 1 {
                held.requests = 0;
                self.main_bytes += u64::from(held.size);
                self.main.push_back(key);
            } else {
                self.entries.remove(&key);
                self.remember(key);
                return;
            }
        }
    }

    fn evict_main(&mut self) {
        while let Some(key) = self.main.pop_front() {
            let Some(held) = self.entries.get_mut(&key) else { continue };
            if held.requests > 0 {
                held.requests -= 1;
                self.main.push_back(key);
            } else {
                self.main_bytes -= u64::from(held.size);
                self.entries.remove(&key);
                return;
            }
        }
    }
}

impl Policy for S3Fifo {
    fn request(&mut self, key: u64, size: u32) -> bool {
        if let Some(held) = self.entries.get_mut(&key) {
            held.requests = (held.requests + 1).min(3);
            return true;
        }
        if u64::from(size) > self.capacity {
            return false;
        }
        while self.small_bytes + self.main_bytes + u64::from(size) > self.capacity {
            if self.small_bytes > self.capacity / 10 || self.main.is_empty() {
                self.evict_small();
            } else {
                self.evict_main();
            }
        }
        self.entries.insert(key, Held { size, requests: 0 });
        if self.remembered.remove(&key) {
            self.main.push_back(key);
            self.main_bytes += u64::from(size);
        } else {
            self.small.push_back(key);
            self.small_bytes += u64::from(size);
        }
        false
    }
}
