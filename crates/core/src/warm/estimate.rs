//! What a run will take and do, before it is started.

use std::time::Duration;

/// What is known before a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct EstimateInput {
    /// How many keys it has.
    pub keys: u64,
    /// How many of them it will leave as they are.
    pub skipped: u64,
    /// How many of those it refills have an entry now, which is replaced.
    pub replaced: u64,
    /// How many of the origin's places it will use at a time.
    pub concurrency: u32,
    /// The most refills that begin in a second.
    pub max_per_second: Option<f64>,
    /// How long a refill takes on average; `None` if none was measured.
    pub refill: Option<Duration>,
    /// The bytes of an entry on average; `None` if there is none.
    pub entry_bytes: Option<u64>,
    /// The bytes that the namespace holds.
    pub used_bytes: u64,
    /// The bytes that it may hold.
    pub limit_bytes: u64,
}

/// What a run will take and do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Estimate {
    /// How many keys are refilled.
    pub refills: u64,
    /// How long that takes; `None` if no refill was measured.
    pub duration: Option<Duration>,
    /// Reads of the origin in a second meanwhile.
    pub origin_reads_per_second: Option<f64>,
    /// The bytes that are added; `None` if no entry was measured.
    pub added_bytes: Option<u64>,
    /// The bytes that must be evicted for them.
    pub evicted_bytes: u64,
    /// Whether it would evict half of what it adds, or more: then it partly evicts itself.
    pub evicts_what_it_fills: bool,
}

impl EstimateInput {
    /// Estimates a run: by Little's law, *c* concurrent refills of *t* seconds are *c/t* a second.
    pub fn estimate(&self) -> Estimate {
        let refills = self.keys.saturating_sub(self.skipped);
        let per_second = self.refill.map(|refill| {
            let busy = f64::from(self.concurrency.max(1)) / refill.as_secs_f64().max(1e-6);
            self.max_per_second.map_or(busy, |most| most.min(busy))
        });
        let seconds = per_second.map(|rate| refills as f64 / rate.max(1e-9));
        let added = refills.saturating_sub(self.replaced);
        let added_bytes = self.entry_bytes.map(|bytes| bytes.saturating_mul(added));
        let after = self.used_bytes.saturating_add(added_bytes.unwrap_or(0));
        let evicted_bytes = after.saturating_sub(self.limit_bytes);
        Estimate {
            refills,
            duration: seconds.map(|s| Duration::try_from_secs_f64(s).unwrap_or(Duration::MAX)),
            origin_reads_per_second: per_second,
            added_bytes,
            evicted_bytes,
            evicts_what_it_fills: evicted_bytes > 0
                && evicted_bytes.saturating_mul(2) >= added_bytes.unwrap_or(0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const INPUT: EstimateInput = EstimateInput {
        keys: 1_000,
        skipped: 200,
        replaced: 100,
        concurrency: 8,
        max_per_second: None,
        refill: Some(Duration::from_millis(100)),
        entry_bytes: Some(1_000),
        used_bytes: 300_000,
        limit_bytes: 1_000_000,
    };

    #[test]
    fn a_run_takes_its_refills_over_its_rate() {
        let estimate = INPUT.estimate();
        assert_eq!((estimate.refills, estimate.duration), (800, Some(Duration::from_secs(10))));
        assert_eq!(estimate.origin_reads_per_second, Some(80.0));
        let slower = EstimateInput { max_per_second: Some(20.0), ..INPUT }.estimate();
        assert_eq!(slower.duration, Some(Duration::from_secs(40)));
        let unknown = EstimateInput { refill: None, ..INPUT }.estimate();
        assert_eq!((unknown.duration, unknown.origin_reads_per_second), (None, None));
    }

    #[test]
    fn what_does_not_fit_is_evicted() {
        let fits = INPUT.estimate();
        assert_eq!((fits.added_bytes, fits.evicted_bytes), (Some(700_000), 0));
        assert!(!fits.evicts_what_it_fills);
        // One byte less than half of what is added, and half of it.
        let most = EstimateInput { limit_bytes: 650_001, ..INPUT }.estimate();
        assert_eq!((most.evicted_bytes, most.evicts_what_it_fills), (349_999, false));
        let half = EstimateInput { limit_bytes: 650_000, ..INPUT }.estimate();
        assert!(half.evicts_what_it_fills);
        let unknown = EstimateInput { entry_bytes: None, ..INPUT }.estimate();
        assert_eq!((unknown.added_bytes, unknown.evicts_what_it_fills), (None, false));
    }
}
