//! Counting the reads of a lane, and comparing two lanes.

use std::time::Duration;

use hdrhistogram::Histogram;
use serde::{Deserialize, Serialize};

use super::interval::{ConfidenceInterval, PairedSlice, ratio_interval};

/// Equal runs have equal intervals.
const SEED: u64 = 1;

/// How a read of a lane ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// Answered from the cache.
    Hit,
    /// Answered after a read of the origin.
    FromOrigin,
    /// Answered by joining a refill that another caller had begun.
    Joined,
    /// Not answered with a value.
    Error,
}

/// Counts the reads of one lane over one interval.
#[derive(Debug, Clone)]
pub struct LaneRecorder {
    latency: Histogram<u64>,
    errors: u64,
    hits: u64,
    from_origin: u64,
}

/// The figures of one lane over one interval. Latencies are in milliseconds, as the client saw
/// them, over answered reads; they are `None` when nothing was answered.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LaneFigures {
    /// Reads sent and ended, errors included.
    pub requests: u64,
    /// Reads that ended without a value.
    pub errors: u64,
    /// Answered reads per second.
    pub per_second: f64,
    /// Mean latency.
    pub mean_ms: Option<f64>,
    /// Median latency.
    pub p50_ms: Option<f64>,
    /// 90th percentile.
    pub p90_ms: Option<f64>,
    /// 99th percentile.
    pub p99_ms: Option<f64>,
    /// The slowest read.
    pub max_ms: Option<f64>,
    /// Answered reads that were hits, 0 to 1; `None` in the direct lane and when nothing was
    /// answered.
    pub hit_ratio: Option<f64>,
    /// Reads of the origin that this lane caused.
    pub origin_calls: u64,
}

/// The cached lane compared with the direct one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Comparison {
    /// Median latency of the direct lane divided by that of the cached lane.
    pub times_faster_p50: Option<f64>,
    /// The same for the 99th percentile.
    pub times_faster_p99: Option<f64>,
    /// Answered reads per second of the cached lane divided by those of the direct lane.
    pub times_throughput: Option<f64>,
    /// The range of that, with a confidence of 95 %; absent with fewer than eight seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throughput_interval: Option<ConfidenceInterval>,
}

impl Default for LaneRecorder {
    fn default() -> Self {
        Self {
            // One microsecond to ten minutes, to three digits; bounds that are always valid.
            latency: Histogram::new_with_bounds(1, 600_000_000, 3)
                .unwrap_or_else(|_| unreachable!("constant bounds are valid")),
            errors: 0,
            hits: 0,
            from_origin: 0,
        }
    }
}

impl LaneRecorder {
    /// Counts one read.
    pub fn record(&mut self, latency: Duration, outcome: Outcome) {
        match outcome {
            Outcome::Error => return self.errors += 1,
            Outcome::Hit => self.hits += 1,
            Outcome::FromOrigin => self.from_origin += 1,
            Outcome::Joined => {}
        }
        let micros = u64::try_from(latency.as_micros()).unwrap_or(u64::MAX);
        self.latency.saturating_record(micros.max(1));
    }

    /// How many reads were answered.
    pub fn answered(&self) -> u64 {
        self.latency.len()
    }

    /// Adds the reads that `other` counted.
    pub fn add(&mut self, other: &LaneRecorder) {
        // Both have the same bounds, so adding cannot fail.
        let added = self.latency.add(&other.latency);
        debug_assert!(added.is_ok());
        self.errors += other.errors;
        self.hits += other.hits;
        self.from_origin += other.from_origin;
    }

    /// The figures over `elapsed`; `cached` tells whether hits are meaningful for this lane.
    pub fn figures(&self, elapsed: Duration, cached: bool) -> LaneFigures {
        let answered = self.latency.len();
        let ms = |micros: f64| (answered > 0).then_some(micros / 1_000.0);
        let quantile = |q| ms(self.latency.value_at_quantile(q) as f64);
        LaneFigures {
            requests: answered + self.errors,
            errors: self.errors,
            per_second: answered as f64 / elapsed.as_secs_f64().max(1e-9),
            mean_ms: ms(self.latency.mean()),
            p50_ms: quantile(0.5),
            p90_ms: quantile(0.9),
            p99_ms: quantile(0.99),
            max_ms: ms(self.latency.max() as f64),
            hit_ratio: (cached && answered > 0).then(|| self.hits as f64 / answered as f64),
            origin_calls: self.from_origin,
        }
    }
}

impl Comparison {
    /// Compares the two lanes of one run, of which `slices` has the answered reads of each second,
    /// cached over direct.
    pub fn of(cached: &LaneFigures, direct: &LaneFigures, slices: &[PairedSlice]) -> Self {
        let ratio = |over: Option<f64>, under: Option<f64>| match (over, under) {
            (Some(over), Some(under)) if under > 0.0 => Some(over / under),
            _ => None,
        };
        Self {
            times_faster_p50: ratio(direct.p50_ms, cached.p50_ms),
            times_faster_p99: ratio(direct.p99_ms, cached.p99_ms),
            times_throughput: ratio(Some(cached.per_second), Some(direct.per_second)),
            throughput_interval: ratio_interval(slices, SEED),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lane(micros: impl Iterator<Item = u64>, outcome: Outcome) -> LaneRecorder {
        let mut recorder = LaneRecorder::default();
        micros.for_each(|n| recorder.record(Duration::from_micros(n), outcome));
        recorder
    }

    #[test]
    fn figures_come_from_every_answered_read() {
        let mut recorder = lane(1..=1_000, Outcome::Hit);
        recorder.record(Duration::from_micros(50_000), Outcome::FromOrigin);
        recorder.record(Duration::from_secs(5), Outcome::Error);
        let figures = recorder.figures(Duration::from_secs(2), true);
        assert_eq!((figures.requests, figures.errors, figures.origin_calls), (1_002, 1, 1));
        assert!((figures.per_second - 500.5).abs() < 1e-9);
        assert!((figures.p50_ms.unwrap() - 0.501).abs() < 0.002, "{figures:?}");
        assert!((figures.max_ms.unwrap() - 50.0).abs() < 0.1);
        assert!((figures.hit_ratio.unwrap() - 1_000.0 / 1_001.0).abs() < 1e-9);
    }

    #[test]
    fn without_answers_there_is_no_latency_and_no_ratio() {
        let mut direct = LaneRecorder::default();
        direct.record(Duration::from_secs(1), Outcome::Error);
        let direct = direct.figures(Duration::from_secs(1), false);
        let cached = lane(1..=10, Outcome::Hit).figures(Duration::from_secs(1), true);
        assert_eq!((direct.p50_ms, direct.hit_ratio), (None, None));
        let comparison = Comparison::of(&cached, &direct, &[]);
        assert_eq!((comparison.times_faster_p50, comparison.times_throughput), (None, None));
    }

    #[test]
    fn comparison_is_direct_over_cached() {
        let cached = lane(100..=100, Outcome::Hit).figures(Duration::from_secs(1), true);
        let direct =
            lane(40_000..=40_000, Outcome::FromOrigin).figures(Duration::from_secs(1), false);
        let times = Comparison::of(&cached, &direct, &[]).times_faster_p50.unwrap();
        assert!((times - 400.0).abs() < 1.0, "{times}");
    }

    #[test]
    fn recorders_add_up() {
        let mut sum = lane(1..=10, Outcome::Hit);
        sum.add(&lane(11..=20, Outcome::FromOrigin));
        let figures = sum.figures(Duration::from_secs(1), true);
        assert_eq!((figures.requests, figures.origin_calls), (20, 10));
        assert_eq!(figures.hit_ratio, Some(0.5));
    }
}
