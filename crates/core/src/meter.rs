//! Latency counts for the serving path: fixed memory, one relaxed add for each sample.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// Each power of two is cut into this many steps, so a quantile is at most 1/16 too high.
const STEPS: usize = 16;

/// Powers of two above the first row; the last step begins past 67 seconds.
const ROWS: usize = 33;

/// A shared histogram of durations, from tens of nanoseconds to about a minute.
#[derive(Debug)]
pub struct LatencyMeter {
    buckets: Box<[AtomicU64]>,
    nanoseconds: AtomicU64,
}

/// The counts of a [`LatencyMeter`] at one moment, or between two of them. Only buckets with
/// samples are kept, since a second's worth of them is few.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LatencyCounts {
    buckets: Vec<(u16, u64)>,
    nanoseconds: u64,
}

impl Default for LatencyMeter {
    fn default() -> Self {
        Self {
            buckets: (0..STEPS * ROWS).map(|_| AtomicU64::new(0)).collect(),
            nanoseconds: AtomicU64::new(0),
        }
    }
}

/// The bucket of a duration: linear below `STEPS` units of 16 ns, then `STEPS` to each doubling.
fn bucket(nanoseconds: u64) -> usize {
    let units = nanoseconds / 16;
    if units < STEPS as u64 {
        return units as usize;
    }
    let exponent = units.ilog2() as usize;
    let row = exponent - STEPS.ilog2() as usize;
    let step = (units >> row) as usize - STEPS;
    ((row + 1) * STEPS + step).min(STEPS * ROWS - 1)
}

/// The upper edge of a bucket, in nanoseconds.
fn upper_edge(bucket: usize) -> u64 {
    let (row, step) = (bucket / STEPS, (bucket % STEPS) as u64);
    match row {
        0 => (step + 1) * 16,
        _ => ((STEPS as u64 + step + 1) << (row - 1)) * 16,
    }
}

impl LatencyMeter {
    /// Counts one sample.
    pub fn record(&self, latency: Duration) {
        let nanoseconds = u64::try_from(latency.as_nanos()).unwrap_or(u64::MAX);
        self.buckets[bucket(nanoseconds)].fetch_add(1, Ordering::Relaxed);
        self.nanoseconds.fetch_add(nanoseconds, Ordering::Relaxed);
    }

    /// Counts as many samples of the same latency.
    pub fn record_many(&self, samples: u64, latency: Duration) {
        let nanoseconds = u64::try_from(latency.as_nanos()).unwrap_or(u64::MAX);
        self.buckets[bucket(nanoseconds)].fetch_add(samples, Ordering::Relaxed);
        self.nanoseconds.fetch_add(nanoseconds.saturating_mul(samples), Ordering::Relaxed);
    }

    /// The counts since the meter was made.
    pub fn counts(&self) -> LatencyCounts {
        let loaded = self.buckets.iter().map(|b| b.load(Ordering::Relaxed));
        LatencyCounts {
            buckets: (0u16..).zip(loaded).filter(|(_, n)| *n > 0).collect(),
            nanoseconds: self.nanoseconds.load(Ordering::Relaxed),
        }
    }
}

impl LatencyCounts {
    /// The samples that came after `earlier`, an older reading of the same meter.
    pub fn since(&self, earlier: &LatencyCounts) -> LatencyCounts {
        let mut before = earlier.buckets.iter().peekable();
        let new = self.buckets.iter().map(|&(bucket, count)| {
            while before.peek().is_some_and(|(b, _)| *b < bucket) {
                before.next();
            }
            let old = before.peek().filter(|(b, _)| *b == bucket).map_or(0, |(_, n)| *n);
            (bucket, count.saturating_sub(old))
        });
        LatencyCounts {
            buckets: new.filter(|(_, n)| *n > 0).collect(),
            nanoseconds: self.nanoseconds.saturating_sub(earlier.nanoseconds),
        }
    }

    /// Adds the samples of `other`.
    pub fn add(&mut self, other: &LatencyCounts) {
        for &(bucket, count) in &other.buckets {
            match self.buckets.binary_search_by_key(&bucket, |(b, _)| *b) {
                Ok(at) => self.buckets[at].1 += count,
                Err(at) => self.buckets.insert(at, (bucket, count)),
            }
        }
        self.nanoseconds += other.nanoseconds;
    }

    /// How many samples.
    pub fn samples(&self) -> u64 {
        self.buckets.iter().map(|(_, n)| n).sum()
    }

    /// The sum of all samples.
    pub fn total(&self) -> Duration {
        Duration::from_nanos(self.nanoseconds)
    }

    /// How many samples took at most `edge`, to the meter's resolution.
    pub fn at_most(&self, edge: Duration) -> u64 {
        let limit = u64::try_from(edge.as_nanos()).unwrap_or(u64::MAX);
        let within = self.buckets.iter().filter(|(b, _)| upper_edge((*b).into()) <= limit + 16);
        within.map(|(_, n)| n).sum()
    }

    /// The latency that `quantile` (0 to 1) of the samples did not exceed; `None` without samples.
    /// At most 1/16 too high.
    pub fn quantile(&self, quantile: f64) -> Option<Duration> {
        let samples = self.samples();
        if samples == 0 {
            return None;
        }
        let wanted = ((samples as f64 * quantile).ceil() as u64).clamp(1, samples);
        let mut seen = 0;
        for &(bucket, count) in &self.buckets {
            seen += count;
            if seen >= wanted {
                return Some(Duration::from_nanos(upper_edge(bucket.into())));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_bucket_edge_is_within_a_sixteenth_above_its_sample(nanoseconds in 0u64..60_000_000_000) {
            let edge = upper_edge(bucket(nanoseconds));
            prop_assert!(nanoseconds < edge);
            prop_assert!(edge - nanoseconds <= (nanoseconds / 16).max(16) + 16);
        }
    }

    #[test]
    fn quantiles_and_differences() {
        let meter = LatencyMeter::default();
        assert_eq!(meter.counts().quantile(0.5), None);
        (1..=100).for_each(|n| meter.record(Duration::from_micros(n)));
        let first = meter.counts();
        let median = first.quantile(0.5).unwrap().as_nanos() as f64 / 1_000.0;
        assert!((50.0..54.0).contains(&median), "{median}");
        meter.record(Duration::from_secs(3_600));
        let later = meter.counts().since(&first);
        assert_eq!(later.samples(), 1);
        assert!(later.quantile(1.0).unwrap() > Duration::from_secs(60));
        assert_eq!(first.at_most(Duration::from_secs(1)), 100);
        let mut sum = later.clone();
        sum.add(&first);
        assert_eq!(sum, meter.counts());
    }
}
