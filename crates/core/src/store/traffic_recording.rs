//! Records the reads of a partition, all of them, while somebody wants to have them.
//!
//! While nothing is recorded, a read costs one comparison. What is recorded is taken from time to
//! time; between two times there is room for a bounded number of reads, and the others are counted.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use super::read_sample::SampledRead;
use crate::time::Timestamp;

/// The parts, each with a lock of its own.
const PARTS: usize = 16;

/// The most reads of a part until they are taken.
const MAX_READS: usize = 16_384;

/// Reads that were recorded since they were last taken.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct RecordedTraffic {
    /// The reads, each with the hash of its key.
    pub reads: Vec<SampledRead>,
    /// The keys that were read for the first time, by their hashes.
    pub keys: Vec<(u64, Box<str>)>,
    /// How many reads there was no room for.
    pub missed: u64,
}

#[derive(Debug, Default)]
struct Part {
    known: HashSet<u64>,
    recorded: RecordedTraffic,
}

/// The recording of a partition.
#[derive(Debug, Default)]
pub(super) struct TrafficRecording {
    is_on: AtomicBool,
    missed: AtomicU64,
    parts: [Mutex<Part>; PARTS],
}

impl TrafficRecording {
    /// Notes a read.
    #[inline]
    pub(super) fn note(&self, hash: u64, key: &str, at: Timestamp) {
        if self.is_on.load(Ordering::Relaxed) {
            self.keep(hash, key, at);
        }
    }

    #[cold]
    fn keep(&self, hash: u64, key: &str, at: Timestamp) {
        let mut part = self.part(hash);
        // It may have ended while this waited.
        if !self.is_on.load(Ordering::Relaxed) {
            return;
        }
        if part.recorded.reads.len() >= MAX_READS {
            drop(part);
            self.missed.fetch_add(1, Ordering::Relaxed);
            return;
        }
        if part.known.insert(hash) {
            part.recorded.keys.push((hash, key.into()));
        }
        part.recorded.reads.push(SampledRead { key: hash, at });
    }

    fn part(&self, hash: u64) -> std::sync::MutexGuard<'_, Part> {
        // The bits that choose the shard are others.
        let part = &self.parts[(hash >> 50) as usize % PARTS];
        part.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to record; false if somebody else does.
    pub(super) fn begin(&self) -> bool {
        !self.is_on.swap(true, Ordering::Relaxed)
    }

    /// Takes what was recorded, in no particular order.
    pub(super) fn take(&self) -> RecordedTraffic {
        let missed = self.missed.swap(0, Ordering::Relaxed);
        let mut all = RecordedTraffic { missed, ..RecordedTraffic::default() };
        for part in &self.parts {
            let mut part = part.lock().unwrap_or_else(PoisonError::into_inner);
            let taken = std::mem::take(&mut part.recorded);
            drop(part);
            all.reads.extend(taken.reads);
            all.keys.extend(taken.keys);
        }
        all
    }

    /// Ends, and forgets what was not taken.
    pub(super) fn end(&self) {
        self.is_on.store(false, Ordering::Relaxed);
        self.missed.store(0, Ordering::Relaxed);
        for part in &self.parts {
            *part.lock().unwrap_or_else(PoisonError::into_inner) = Part::default();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(millis: u64) -> Timestamp {
        Timestamp::from_millis(millis)
    }

    #[test]
    fn reads_are_recorded_only_between_begin_and_end() {
        let recording = TrafficRecording::default();
        recording.note(1, "tide/1", at(0));
        assert!(recording.begin());
        assert!(!recording.begin(), "one at a time");
        recording.note(1, "tide/1", at(1));
        recording.note(2 << 50, "tide/2", at(2));
        recording.note(1, "tide/1", at(3));
        let mut taken = recording.take();
        taken.reads.sort_by_key(|read| read.at);
        let read = |key, millis| SampledRead { key, at: at(millis) };
        assert_eq!(taken.reads, [read(1, 1), read(2 << 50, 2), read(1, 3)]);
        let mut keys: Vec<&str> = taken.keys.iter().map(|(_, key)| &**key).collect();
        keys.sort_unstable();
        assert_eq!(keys, ["tide/1", "tide/2"]);
        // A key is named once.
        recording.note(1, "tide/1", at(4));
        let again = recording.take();
        assert_eq!((again.reads.len(), again.keys.len()), (1, 0));
        recording.note(1, "tide/1", at(5));
        recording.end();
        recording.note(1, "tide/1", at(6));
        assert_eq!(recording.take(), RecordedTraffic::default());
        // The next one knows nothing of this one.
        assert!(recording.begin());
        recording.note(1, "tide/1", at(7));
        assert_eq!(recording.take().keys.len(), 1);
    }

    #[test]
    fn reads_beyond_the_room_are_counted() {
        let recording = TrafficRecording::default();
        recording.begin();
        (0..MAX_READS as u64 + 5).for_each(|millis| recording.note(7, "tide/7", at(millis)));
        let taken = recording.take();
        assert_eq!((taken.reads.len(), taken.missed), (MAX_READS, 5));
        recording.note(7, "tide/7", at(1));
        let taken = recording.take();
        assert_eq!((taken.reads.len(), taken.missed), (1, 0));
    }
}
