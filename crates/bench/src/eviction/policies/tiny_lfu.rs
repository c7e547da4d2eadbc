//! W-TinyLFU: Einziger, Friedman and Manes, "TinyLFU: A Highly Efficient Cache Admission Policy",
//! ACM Transactions on Storage 13 (2017).

use super::lru::Lru;
use super::policy::Policy;

/// Frequencies of keys, held or not: four rows of counters up to 15, halved as they age.
#[derive(Debug)]
struct Sketch {
    counters: Vec<u8>,
    added: usize,
    period: usize,
}

impl Sketch {
    fn new(entries: usize) -> Self {
        let width = (entries * 2).next_power_of_two().max(64);
        Self { counters: vec![0; width * 4], added: 0, period: entries.max(64) * 10 }
    }

    fn places(&self, key: u64) -> [usize; 4] {
        let width = self.counters.len() / 4;
        std::array::from_fn(|row| {
            let mixed = (key ^ (row as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15))
                .wrapping_mul(0xff51_afd7_ed55_8ccd);
            row * width + ((mixed ^ (mixed >> 31)) as usize & (width - 1))
        })
    }

    fn estimate(&self, key: u64) -> u8 {
        self.places(key).map(|place| self.counters[place]).into_iter().min().unwrap_or(0)
    }

    fn add(&mut self, key: u64) {
        let places = self.places(key);
        let least = self.estimate(key);
        for place in places {
            if self.counters[place] == least && least < 15 {
                self.counters[place] += 1;
            }
        }
        self.added += 1;
        if self.added >= self.period {
            self.counters.iter_mut().for_each(|c| *c /= 2);
            self.added /= 2;
        }
    }
}

/// A small window in order of use before a main part of two segments; what leaves the window
/// enters the main part only if it is more frequent than what would leave that.
#[derive(Debug)]
pub(crate) struct TinyLfu {
    capacity: u64,
    sketch: Sketch,
    window: Lru,
    probation: Lru,
    protected: Lru,
}

impl TinyLfu {
    /// `entries`: about how many fit.
    pub(crate) fn new(capacity: u64, entries: usize) -> Self {
        let window = (capacity / 100).max(1);
        let main = capacity - window;
        Self {
            capacity,
            sketch: Sketch::new(entries),
            window: Lru::new(window),
            probation: Lru::new(main),
            protected: Lru::new(main / 5 * 4),
        }
    }

    fn main_overfull(&self, more: u64) -> bool {
        self.probation.used() + self.protected.used() + more > self.probation.capacity()
    }

    fn demote(&mut self) {
        while self.protected.overfull() {
            if let Some(key) = self.protected.oldest()
                && let Some(size) = self.protected.remove(key)
            {
                self.probation.add(key, size);
            }
        }
    }

    /// A key that left the window asks for a place in the main part.
    fn admit(&mut self, key: u64, size: u32) {
        while self.main_overfull(u64::from(size)) {
            let Some(victim) = self.probation.oldest().or_else(|| self.protected.oldest()) else {
                return;
            };
            if self.sketch.estimate(key) <= self.sketch.estimate(victim) {
                return;
            }
            if self.probation.remove(victim).is_none() {
                self.protected.remove(victim);
            }
        }
        self.probation.add(key, size);
    }
}

impl Policy for TinyLfu {
    fn request(&mut self, key: u64, size: u32) -> bool {
        self.sketch.add(key);
        if self.window.contains(key) {
            self.window.add(key, size);
            return true;
        }
        if self.probation.remove(key).is_some() || self.protected.contains(key) {
            self.protected.add(key, size);
            self.demote();
            return true;
        }
        if u64::from(size) <= self.capacity {
            self.window.add(key, size);
        }
        while self.window.overfull() {
            if let Some(candidate) = self.window.oldest()
                && let Some(size) = self.window.remove(candidate)
            {
                self.admit(candidate, size);
            }
        }
        false
    }
}
