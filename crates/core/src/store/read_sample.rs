//! A sample of the reads of a partition: those of keys whose hash is below a threshold.
//!
//! Sampling by hash takes all reads of a key or none, so that what follows a read of a key is seen,
//! too (spatially hashed sampling: Waldspurger et al., SHARDS, FAST 2015). The hash is the
//! partition's own, with a secret, so that nobody can choose keys that are sampled.

use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::time::Timestamp;

/// The threshold at which every key is sampled.
pub const WHOLE: u32 = 1 << 24;

/// The most reads that are kept until they are taken.
const MAX_READS: usize = 4_096;

/// A sampled read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SampledRead {
    /// The key's hash.
    pub key: u64,
    /// When.
    pub at: Timestamp,
}

/// Where the hash of a key stands between 0 and [`WHOLE`].
pub fn place_of(hash: u64) -> u32 {
    // Bits that choose neither the shard nor the place in its index.
    (hash >> 40) as u32
}

/// The reads since they were last taken.
#[derive(Debug)]
pub(super) struct ReadSample {
    threshold: AtomicU32,
    kept: AtomicUsize,
    reads: Mutex<Vec<SampledRead>>,
}

impl Default for ReadSample {
    fn default() -> Self {
        let (kept, reads) = (AtomicUsize::new(0), Mutex::default());
        Self { threshold: AtomicU32::new(0), kept, reads }
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
        // Neither a full buffer nor another thread makes a read wait.
        if self.kept.load(Ordering::Relaxed) >= MAX_READS {
            return;
        }
        if let Ok(mut reads) = self.reads.try_lock() {
            reads.push(read);
            self.kept.store(reads.len(), Ordering::Relaxed);
        }
    }

    /// Takes the reads, and sets which keys are sampled from now on.
    pub(super) fn take(&self, threshold: u32) -> Vec<SampledRead> {
        let mut reads = self.reads.lock().unwrap_or_else(PoisonError::into_inner);
        let taken = std::mem::take(&mut *reads);
        self.kept.store(0, Ordering::Relaxed);
        self.threshold.store(threshold.min(WHOLE), Ordering::Relaxed);
        taken
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
}
