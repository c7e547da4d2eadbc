//! A sample of the reads of a partition: those of keys whose hash is below a threshold.
//!
//! Sampling by hash takes all reads of a key or none, so that what follows a read of a key is seen,
//! too (spatially hashed sampling: Waldspurger et al., SHARDS, FAST 2015). The hash is the
//! partition's own, with a secret, so that nobody can choose keys that are sampled.

use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::time::Timestamp;

/// The threshold at which every key is sampled.
pub const WHOLE: u32 = 1 << 24;

/// The most reads that are kept for the advice on lifetimes until they are taken.
const MAX_READS: usize = 4_096;

/// The most reads that are kept for the memory curve until they are taken.
pub const MAX_REUSE_READS: usize = 8_192;

/// A sampled read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SampledRead {
    /// The key's hash.
    pub key: u64,
    /// When.
    pub at: Timestamp,
}

/// Sampled reads, but for those of the hottest keys.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ReuseSample {
    /// The reads.
    pub reads: Vec<SampledRead>,
    /// The share of all keys that was left out because the hottest ones were.
    pub left_out: f64,
}

/// Where the hash of a key stands between 0 and [`WHOLE`].
pub fn place_of(hash: u64) -> u32 {
    // Bits that choose neither the shard nor the place in its index.
    (hash >> 40) as u32
}

/// Reads of keys below a threshold, up to a bound.
#[derive(Debug)]
struct Kept {
    threshold: AtomicU32,
    most: usize,
    count: AtomicUsize,
    reads: Mutex<Vec<SampledRead>>,
}

impl Kept {
    fn new(most: usize) -> Self {
        let (threshold, count, reads) = (AtomicU32::new(0), AtomicUsize::new(0), Mutex::default());
        Self { threshold, most, count, reads }
    }

    fn threshold(&self) -> u32 {
        self.threshold.load(Ordering::Relaxed)
    }

    fn keep(&self, read: SampledRead) {
        // Neither a full buffer nor another thread makes a read wait.
        if place_of(read.key) >= self.threshold() || self.count.load(Ordering::Relaxed) >= self.most
        {
            return;
        }
        if let Ok(mut reads) = self.reads.try_lock() {
            reads.push(read);
            self.count.store(reads.len(), Ordering::Relaxed);
        }
    }

    fn take(&self, threshold: u32) -> Vec<SampledRead> {
        let mut reads = self.reads.lock().unwrap_or_else(PoisonError::into_inner);
        let taken = std::mem::take(&mut *reads);
        self.count.store(0, Ordering::Relaxed);
        self.threshold.store(threshold.min(WHOLE), Ordering::Relaxed);
        taken
    }
}

/// Which hashes belong to the hottest keys: one bit for each of 4,096 classes of hashes. A class
/// with one of them takes a few other keys along, whichever these are.
#[derive(Debug)]
struct HotClasses([AtomicU64; 64]);

impl HotClasses {
    fn place(hash: u64) -> (usize, u64) {
        ((hash >> 34) as usize % 64, 1 << ((hash >> 28) % 64))
    }

    fn contains(&self, hash: u64) -> bool {
        let (word, bit) = Self::place(hash);
        self.0[word].load(Ordering::Relaxed) & bit != 0
    }

    /// The share of all hashes that belongs to one.
    fn share(&self) -> f64 {
        let ones = |word: &AtomicU64| f64::from(word.load(Ordering::Relaxed).count_ones());
        self.0.iter().map(ones).sum::<f64>() / (64.0 * 64.0)
    }

    fn set(&self, hot: impl Iterator<Item = u64>) {
        let mut words = [0; 64];
        for (word, bit) in hot.map(Self::place) {
            words[word] |= bit;
        }
        for (word, bits) in self.0.iter().zip(words) {
            word.store(bits, Ordering::Relaxed);
        }
    }
}

/// The reads since they were last taken.
#[derive(Debug)]
pub(super) struct ReadSample {
    /// The larger threshold of the two.
    threshold: AtomicU32,
    for_lifetimes: Kept,
    for_memory: Kept,
    hot: HotClasses,
    is_off: AtomicBool,
}

impl Default for ReadSample {
    fn default() -> Self {
        Self {
            threshold: AtomicU32::new(0),
            for_lifetimes: Kept::new(MAX_READS),
            for_memory: Kept::new(MAX_REUSE_READS),
            hot: HotClasses(std::array::from_fn(|_| AtomicU64::new(0))),
            is_off: AtomicBool::new(false),
        }
    }
}

impl ReadSample {
    /// Notes a read, if its key is sampled and there is room. Most reads cost one comparison.
    pub(super) fn note(&self, hash: u64, at: Timestamp) {
        if place_of(hash) < self.threshold.load(Ordering::Relaxed) {
            self.keep(SampledRead { key: hash, at });
        }
    }

    #[cold]
    fn keep(&self, read: SampledRead) {
        self.for_lifetimes.keep(read);
        if !self.hot.contains(read.key) {
            self.for_memory.keep(read);
        }
    }

    fn set_threshold(&self) {
        let larger = self.for_lifetimes.threshold().max(self.for_memory.threshold());
        let is_off = self.is_off.load(Ordering::Relaxed);
        self.threshold.store(if is_off { 0 } else { larger }, Ordering::Relaxed);
    }

    /// Whether reads are sampled at all.
    pub(super) fn set_tracking(&self, tracks: bool) {
        self.is_off.store(!tracks, Ordering::Relaxed);
        self.set_threshold();
    }

    /// Takes the reads for the advice on lifetimes, and sets which keys are sampled from now on.
    pub(super) fn take(&self, threshold: u32) -> Vec<SampledRead> {
        let taken = self.for_lifetimes.take(threshold);
        self.set_threshold();
        taken
    }

    /// Takes the reads for the memory curve, and sets which keys are sampled from now on: those
    /// below a threshold but for the hottest.
    pub(super) fn take_reuse(&self, threshold: u32, hot: impl Iterator<Item = u64>) -> ReuseSample {
        let left_out = self.hot.share();
        self.hot.set(hot);
        let reads = self.for_memory.take(threshold);
        self.set_threshold();
        ReuseSample { reads, left_out }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_of_sampled_keys_are_kept_up_to_a_bound() {
        let sample = ReadSample::default();
        let at = Timestamp::from_millis(7);
        let hash = |place: u32| u64::from(place) << 40;
        sample.note(hash(0), at);
        assert_eq!(sample.take(10), []);
        sample.note(hash(9), at);
        sample.note(hash(10), at);
        assert_eq!(sample.take(WHOLE), [SampledRead { key: hash(9), at }]);
        (0..MAX_READS + 10).for_each(|_| sample.note(u64::MAX, at));
        assert_eq!(sample.take(WHOLE).len(), MAX_READS);
        sample.note(u64::MAX, at);
        assert_eq!(sample.take(WHOLE).len(), 1);
    }

    #[test]
    fn reads_of_the_hottest_keys_are_not_kept_for_the_memory_curve() {
        let sample = ReadSample::default();
        let at = Timestamp::from_millis(7);
        let take = |threshold, hot: &[u64]| sample.take_reuse(threshold, hot.iter().copied());
        assert_eq!(take(WHOLE, &[0b11 << 34]), ReuseSample::default());
        let hash = |class: u64| class << 34;
        (0..MAX_REUSE_READS + 10).for_each(|_| sample.note(hash(3), at));
        [1, 2, 4].into_iter().for_each(|class| sample.note(hash(class), at));
        let reads = [1, 2, 4].map(|class| SampledRead { key: hash(class), at }).into();
        assert_eq!(take(WHOLE, &[]), ReuseSample { reads, left_out: 1.0 / 4_096.0 });
        // They are sampled for the advice on lifetimes when that asks for them.
        assert_eq!(sample.take(WHOLE), []);
        (0..MAX_REUSE_READS + 10).for_each(|_| sample.note(hash(3), at));
        assert_eq!(sample.take(0).len(), MAX_READS);
        assert_eq!(take(0, &[]).reads.len(), MAX_REUSE_READS);
        sample.note(hash(3), at);
        assert_eq!(take(WHOLE, &[]), ReuseSample::default());
        // It can be turned off, whatever is asked for.
        sample.set_tracking(false);
        take(WHOLE, &[]);
        sample.note(hash(3), at);
        assert_eq!(take(WHOLE, &[]), ReuseSample::default());
        sample.set_tracking(true);
        sample.note(hash(3), at);
        assert_eq!(take(WHOLE, &[]).reads.len(), 1);
    }
}
