//! What a profile expects of the figures of its run, for pipelines.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::recorder::LaneFigures;
use crate::name::Name;

/// A figure of a lane.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Measure {
    /// The median, at most, in milliseconds.
    P50,
    /// The 90th percentile, at most, in milliseconds.
    P90,
    /// The 99th percentile, at most, in milliseconds.
    P99,
    /// The 99.9th percentile, at most, in milliseconds.
    P999,
    /// Failed requests, at most, in percent.
    Errors,
    /// Successful requests per second, at least.
    Throughput,
    /// Hits, at least, in percent.
    Hits,
    /// How many times the median of each other lane is that of this one, at least.
    TimesFaster,
}

/// What is expected of a figure of a lane.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Goal {
    /// The lane.
    pub lane: Name,
    /// The figure.
    pub measure: Measure,
    /// Its bound.
    pub bound: f64,
}

/// A goal and what was measured.
#[derive(Debug, Clone, PartialEq)]
pub struct GoalResult {
    /// The measured figure; `None` if there is none, which misses the goal.
    pub measured: Option<f64>,
    /// Whether it was reached.
    pub is_met: bool,
}

impl Goal {
    /// Holds the goal against the figures of its lane and of the others.
    pub fn check(&self, lane: &LaneFigures, others: &[LaneFigures]) -> GoalResult {
        let measured = match self.measure {
            Measure::P50 => lane.p50_ms,
            Measure::P90 => lane.p90_ms,
            Measure::P99 => lane.p99_ms,
            Measure::P999 => lane.p999_ms,
            Measure::Errors => {
                (lane.requests > 0).then(|| 100.0 * lane.errors as f64 / lane.requests as f64)
            }
            Measure::Throughput => Some(lane.per_second),
            Measure::Hits => lane.hit_ratio.map(|ratio| 100.0 * ratio),
            Measure::TimesFaster => others
                .iter()
                .map(|other| Some(other.p50_ms? / lane.p50_ms?))
                .try_fold(f64::INFINITY, |least, times| Some(least.min(times?)))
                .filter(|times| times.is_finite()),
        };
        let is_within = |figure: f64| match self.measure.is_at_least() {
            true => figure >= self.bound,
            false => figure <= self.bound,
        };
        GoalResult { measured, is_met: measured.is_some_and(is_within) }
    }
}

impl Measure {
    /// Whether larger is better.
    pub const fn is_at_least(self) -> bool {
        matches!(self, Self::Throughput | Self::Hits | Self::TimesFaster)
    }
}

impl fmt::Display for Goal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (what, unit) = match self.measure {
            Measure::P50 => ("p50", " ms"),
            Measure::P90 => ("p90", " ms"),
            Measure::P99 => ("p99", " ms"),
            Measure::P999 => ("p99.9", " ms"),
            Measure::Errors => ("errors", " %"),
            Measure::Throughput => ("throughput", "/s"),
            Measure::Hits => ("hits", " %"),
            Measure::TimesFaster => ("times faster", ""),
        };
        let relation = if self.measure.is_at_least() { "at least" } else { "at most" };
        write!(f, "{} {what} {relation} {}{unit}", self.lane, self.bound)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use rstest::rstest;

    use super::super::outcome::{ErrorKind, Outcome, ReadKind};
    use super::super::recorder::LaneRecorder;
    use super::*;

    fn lane(ms: u64, hits: u64, from_origin: u64, failed: u64) -> LaneFigures {
        let mut recorder = LaneRecorder::default();
        let latency = Duration::from_millis(ms);
        let mut add = |count, outcome| {
            (0..count).for_each(|_| recorder.record(latency, None, outcome));
        };
        add(hits, Outcome::Read(ReadKind::Hit));
        add(from_origin, Outcome::Read(ReadKind::Origin));
        add(failed, Outcome::Failed(ErrorKind::Other));
        recorder.figures(Duration::from_secs(1), true)
    }

    #[rstest]
    #[case(Measure::P50, 2.0, 1.9)]
    #[case(Measure::P99, 2.0, 1.9)]
    #[case(Measure::P999, 2.0, 1.9)]
    #[case(Measure::Errors, 10.0, 9.9)]
    #[case(Measure::Throughput, 90.0, 90.1)]
    #[case(Measure::Hits, 80.0, 80.1)]
    #[case(Measure::TimesFaster, 9.9, 10.1)]
    fn each_goal_has_two_sides(#[case] measure: Measure, #[case] met: f64, #[case] missed: f64) {
        // Latencies are right to three digits.
        let figures = lane(2, 72, 18, 10);
        let met = if matches!(measure, Measure::P50 | Measure::P99 | Measure::P999) {
            met + 0.01
        } else {
            met
        };
        let goal = |bound| Goal { lane: Name::new("cached").unwrap(), measure, bound };
        let others = [lane(20, 0, 10, 0), lane(40, 0, 10, 0)];
        assert!(goal(met).check(&figures, &others).is_met);
        assert!(!goal(missed).check(&figures, &others).is_met);
        // A lane that read nothing meets no goal but that of a throughput of zero.
        assert!(!goal(missed).check(&lane(2, 0, 0, 0), &others).is_met);
    }

    #[test]
    fn a_goal_reads_as_a_sentence() {
        let lane = Name::new("cached").unwrap();
        let goal = Goal { lane: lane.clone(), measure: Measure::P99, bound: 20.0 };
        assert_eq!(goal.to_string(), "cached p99 at most 20 ms");
        let goal = Goal { lane, measure: Measure::TimesFaster, bound: 3.0 };
        assert_eq!(goal.to_string(), "cached times faster at least 3");
    }
}
