//! A random sample of the reads of a partition, counted by key.
//!
//! Most reads cost a random number and a comparison: about one read in `gap` is counted, and the
//! gap follows the rate, so that about [`SAMPLED_PER_SECOND`] are.

use std::cell::Cell;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::heat::{HeatSketch, HotKeys, KnownKey, SAMPLED_PER_SECOND};
use crate::time::Timestamp;

/// The largest gap: one read in about a million is counted.
const MAX_GAP: u32 = 1 << 20;

thread_local! {
    static RANDOM: Cell<u32> = const { Cell::new(0x9e37_79b9) };
}

/// The next number of this thread's xorshift generator (Marsaglia, 2003).
fn random() -> u32 {
    RANDOM.with(|state| {
        let mut number = state.get();
        number ^= number << 13;
        number ^= number >> 17;
        number ^= number << 5;
        state.set(number);
        number
    })
}

#[derive(Debug)]
struct State {
    sketch: HeatSketch,
    gap: u32,
    second: u64,
    samples: u32,
}

/// The sample of a partition.
#[derive(Debug)]
pub(super) struct HeatSample {
    /// Reads whose random number is at most this are counted.
    threshold: AtomicU32,
    state: Mutex<State>,
}

impl Default for HeatSample {
    fn default() -> Self {
        let state = State { sketch: HeatSketch::default(), gap: 1, second: 0, samples: 0 };
        Self { threshold: AtomicU32::new(u32::MAX), state: Mutex::new(state) }
    }
}

impl HeatSample {
    /// Notes a read.
    #[inline]
    pub(super) fn note(&self, hash: u64, key: &str, hit: bool, now: Timestamp) {
        if random() <= self.threshold.load(Ordering::Relaxed) {
            self.keep(hash, key, hit, now);
        }
    }

    #[cold]
    fn keep(&self, hash: u64, key: &str, hit: bool, now: Timestamp) {
        // No read waits for another thread's.
        let Ok(mut state) = self.state.try_lock() else { return };
        let second = now.as_millis() / 1_000;
        if second != state.second {
            if f64::from(state.samples) < SAMPLED_PER_SECOND / 4.0 && state.gap > 1 {
                self.set_gap(&mut state, |gap| gap / 2);
            }
            (state.second, state.samples) = (second, 0);
        }
        state.samples += 1;
        let weight = f64::from(state.gap);
        state.sketch.note(hash, key, hit, weight, now);
        if f64::from(state.samples) > SAMPLED_PER_SECOND && state.gap < MAX_GAP {
            self.set_gap(&mut state, |gap| gap * 2);
            state.samples /= 2;
        }
    }

    fn set_gap(&self, state: &mut State, change: fn(u32) -> u32) {
        state.gap = change(state.gap);
        self.threshold.store(u32::MAX / state.gap, Ordering::Relaxed);
    }

    /// Whether reads are counted at all.
    pub(super) fn set_tracking(&self, tracks: bool) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        match tracks {
            true => self.set_gap(&mut state, |gap| gap),
            // A random number is never 0.
            false => self.threshold.store(0, Ordering::Relaxed),
        }
    }

    /// The keys whose share of the reads is known well.
    pub(super) fn known(&self) -> Vec<KnownKey> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).sketch.known()
    }

    /// The hottest keys, at most `most`.
    pub(super) fn hottest(&self, most: usize, now: Timestamp) -> HotKeys {
        let state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        // Readers only try for the lock: they are not held up by a long copy.
        let sketch = state.sketch.clone();
        drop(state);
        sketch.hottest(most, now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_gap_follows_the_rate_and_counts_stay_true() {
        let sample = HeatSample::default();
        let at = |second: u64, part: u64| Timestamp::from_millis(second * 1_000 + part);
        // 50,000 reads a second, a tenth of them of one key.
        for second in 0..60 {
            for read in 0..50_000_u64 {
                let key = if read % 10 == 0 { 0 } else { 1 + read % 7 };
                sample.note(key, &format!("tide/{key}"), true, at(second, read / 50));
            }
        }
        let gap = sample.state.lock().unwrap().gap;
        assert!((32..=128).contains(&gap), "{gap}");
        let hot = sample.hottest(10, at(60, 0));
        let zero = hot.keys.iter().find(|hot| hot.key == "tide/0").unwrap();
        assert!((4_500.0..5_500.0).contains(&zero.reads_per_second), "{zero:?}");
        assert!((47_500.0..52_500.0).contains(&hot.reads_per_second), "{}", hot.reads_per_second);
        // It returns to counting every read.
        for second in 60..80 {
            (0..2_000).for_each(|read| sample.note(0, "tide/0", true, at(second, read / 2)));
        }
        for second in 80..120 {
            (0..100).for_each(|read| sample.note(0, "tide/0", true, at(second, read)));
        }
        assert_eq!(sample.state.lock().unwrap().gap, 1);
    }
}
