//! Comparing two lanes of a run.

use serde::{Deserialize, Serialize};

use super::interval::{ConfidenceInterval, PairedSlice, ratio_interval};
use super::recorder::LaneFigures;

/// Equal runs have equal intervals.
const SEED: u64 = 1;

/// A lane compared with another one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Comparison {
    /// Median latency of the other lane divided by that of this one.
    pub times_faster_p50: Option<f64>,
    /// The same for the 99th percentile.
    pub times_faster_p99: Option<f64>,
    /// Successful requests per second of this lane divided by those of the other.
    pub times_throughput: Option<f64>,
    /// The range of that, with a confidence of 95 %; absent with fewer than eight seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throughput_interval: Option<ConfidenceInterval>,
}

impl Comparison {
    /// Compares a lane with another one of its run. `slices` has the successful requests of each
    /// second, this lane's over the other's.
    pub fn of(this: &LaneFigures, other: &LaneFigures, slices: &[PairedSlice]) -> Self {
        let ratio = |over: Option<f64>, under: Option<f64>| match (over, under) {
            (Some(over), Some(under)) if under > 0.0 => Some(over / under),
            _ => None,
        };
        Self {
            times_faster_p50: ratio(other.p50_ms, this.p50_ms),
            times_faster_p99: ratio(other.p99_ms, this.p99_ms),
            times_throughput: ratio(Some(this.per_second), Some(other.per_second)),
            throughput_interval: ratio_interval(slices, SEED),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::super::outcome::{ErrorKind, Outcome, ReadKind};
    use super::super::recorder::LaneRecorder;
    use super::*;

    fn lane(micros: u64, outcome: Outcome, is_cached: bool) -> LaneFigures {
        let mut recorder = LaneRecorder::default();
        recorder.record(Duration::from_micros(micros), None, outcome);
        recorder.figures(Duration::from_secs(1), is_cached)
    }

    #[test]
    fn a_comparison_is_the_other_lane_over_this_one() {
        let cached = lane(100, Outcome::Read(ReadKind::Hit), true);
        let direct = lane(40_000, Outcome::Read(ReadKind::Origin), false);
        let times = Comparison::of(&cached, &direct, &[]).times_faster_p50.unwrap();
        assert!((times - 400.0).abs() < 1.0, "{times}");
    }

    #[test]
    fn a_lane_without_reads_is_not_compared() {
        let cached = lane(100, Outcome::Read(ReadKind::Hit), true);
        let direct = lane(100, Outcome::Failed(ErrorKind::Other), false);
        let comparison = Comparison::of(&cached, &direct, &[]);
        assert_eq!((comparison.times_faster_p50, comparison.times_throughput), (None, None));
    }
}
