//! When a load run ends before its time.

use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::invalid_profile::InvalidProfile;
use super::limits::MAX_REQUESTS;
use super::recorder::LaneFigures;

/// For how many seconds in a row a limit is passed, unless the profile says otherwise.
pub const DEFAULT_SECONDS: u32 = 3;

/// What ends a run early.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct StopWhen {
    /// More failed requests in any lane, in percent.
    pub error_percent: Option<f64>,
    /// A longer 99th percentile in any lane.
    pub p99: Option<Duration>,
    /// For how many seconds in a row.
    pub seconds: u32,
    /// More requests in all lanes together.
    pub requests: Option<u64>,
}

impl Default for StopWhen {
    fn default() -> Self {
        Self { error_percent: None, p99: None, seconds: DEFAULT_SECONDS, requests: None }
    }
}

/// Why a run ended early.
#[derive(Debug, Clone, PartialEq)]
pub enum EarlyEnd {
    /// Too many requests of a lane failed.
    Errors {
        /// The lane.
        lane: String,
        /// What failed in the last second, in percent.
        percent: f64,
        /// The limit.
        limit: f64,
    },
    /// A lane was too slow.
    Latency {
        /// The lane.
        lane: String,
        /// Its 99th percentile in the last second, in milliseconds.
        p99_ms: f64,
        /// The limit, in milliseconds.
        limit: f64,
    },
    /// The requests were used up.
    Requests(u64),
}

impl fmt::Display for EarlyEnd {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Errors { lane, percent, limit } => write!(
                f,
                "{percent:.1} % of the requests of the lane {lane} failed, more than {limit} %"
            ),
            Self::Latency { lane, p99_ms, limit } => {
                write!(f, "the p99 of the lane {lane} was {p99_ms:.1} ms, more than {limit} ms")
            }
            Self::Requests(limit) => write!(f, "the limit of {limit} requests was reached"),
        }
    }
}

/// Watches the seconds of a run.
#[derive(Debug)]
pub struct StopWatch {
    when: StopWhen,
    requests: u64,
    /// For each lane, how many seconds in a row passed a limit.
    failing: Vec<u32>,
    slow: Vec<u32>,
}

impl StopWatch {
    /// Watches a run of so many lanes.
    pub fn new(when: StopWhen, lanes: usize) -> Self {
        Self { when, requests: 0, failing: vec![0; lanes], slow: vec![0; lanes] }
    }

    /// Takes a second of all lanes; says why the run is to end.
    pub fn second<'a>(
        &mut self,
        lanes: impl Iterator<Item = (&'a str, &'a LaneFigures)>,
    ) -> Option<EarlyEnd> {
        let mut end = None;
        for (number, (name, figures)) in lanes.enumerate() {
            self.requests += figures.requests;
            let percent = 100.0 * figures.errors as f64 / (figures.requests as f64).max(1.0);
            let failing = self.when.error_percent.filter(|limit| percent > *limit);
            self.failing[number] = failing.map_or(0, |_| self.failing[number] + 1);
            let limit_ms = self.when.p99.map(|limit| limit.as_secs_f64() * 1_000.0);
            let slow = limit_ms.filter(|limit| figures.p99_ms.is_some_and(|p99| p99 > *limit));
            self.slow[number] = slow.map_or(0, |_| self.slow[number] + 1);
            let lane = || name.to_owned();
            if let (Some(limit), true) = (failing, self.failing[number] >= self.when.seconds) {
                end.get_or_insert(EarlyEnd::Errors { lane: lane(), percent, limit });
            } else if let (Some(limit), true) = (slow, self.slow[number] >= self.when.seconds) {
                let p99_ms = figures.p99_ms.unwrap_or_default();
                end.get_or_insert(EarlyEnd::Latency { lane: lane(), p99_ms, limit });
            }
        }
        let limit = self.when.requests.unwrap_or(MAX_REQUESTS);
        end.or_else(|| (self.requests >= limit).then_some(EarlyEnd::Requests(limit)))
    }
}

impl StopWhen {
    pub(super) fn check(&self) -> Result<(), InvalidProfile> {
        let number = |what, value: f64, range| InvalidProfile::Number { what, value, range };
        if let Some(value) = self.error_percent.filter(|p| !(0.0..=100.0).contains(p)) {
            return Err(InvalidProfile::Share { what: "error_percent", value });
        }
        if let Some(p99) = self.p99.filter(Duration::is_zero) {
            return Err(number("p99_ms", p99.as_secs_f64(), "use more than 0"));
        }
        if !(1..=3_600).contains(&self.seconds) {
            return Err(number("for_seconds", self.seconds.into(), "use 1 to 3600"));
        }
        match self.requests.filter(|requests| !(1..=MAX_REQUESTS).contains(requests)) {
            Some(requests) => Err(number("requests", requests as f64, "use 1 to 200000000")),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::outcome::{ErrorKind, Outcome, ReadKind};
    use super::super::recorder::LaneRecorder;
    use super::*;

    fn second(answered: u64, ms: u64, failed: u64) -> LaneFigures {
        let mut recorder = LaneRecorder::default();
        for _ in 0..answered {
            let latency = Duration::from_millis(ms);
            recorder.record(latency, None, Outcome::Read(ReadKind::Hit));
        }
        for _ in 0..failed {
            recorder.record(Duration::ZERO, None, Outcome::Failed(ErrorKind::Other));
        }
        recorder.figures(Duration::from_secs(1), true)
    }

    #[test]
    fn a_limit_must_be_passed_for_as_long_as_the_profile_says() {
        let when = StopWhen { error_percent: Some(10.0), seconds: 2, ..Default::default() };
        let mut watch = StopWatch::new(when, 2);
        let (good, bad) = (second(90, 1, 10), second(89, 1, 11));
        let mut pass = |figures: &LaneFigures| {
            watch.second([("cached", &good), ("direct", figures)].into_iter())
        };
        assert_eq!(pass(&bad), None);
        assert_eq!(pass(&good), None);
        assert_eq!(pass(&bad), None);
        let end = pass(&bad).unwrap().to_string();
        assert_eq!(end, "11.0 % of the requests of the lane direct failed, more than 10 %");
    }

    #[test]
    fn latency_and_requests_end_a_run() {
        let p99 = Some(Duration::from_millis(20));
        let mut watch = StopWatch::new(StopWhen { p99, seconds: 1, ..Default::default() }, 1);
        assert_eq!(watch.second([("direct", &second(10, 19, 0))].into_iter()), None);
        let end = watch.second([("direct", &second(10, 22, 0))].into_iter());
        assert!(end.unwrap().to_string().starts_with("the p99 of the lane direct was 22"));
        let mut watch = StopWatch::new(StopWhen { requests: Some(20), ..Default::default() }, 1);
        assert_eq!(watch.second([("direct", &second(19, 1, 0))].into_iter()), None);
        let end = watch.second([("direct", &second(1, 1, 0))].into_iter());
        assert_eq!(end, Some(EarlyEnd::Requests(20)));
    }

    #[test]
    fn limits_are_bounded() {
        let base = StopWhen::default();
        let fits = |when: StopWhen| when.check().is_ok();
        assert!(fits(StopWhen { error_percent: Some(0.0), ..base }));
        assert!(!fits(StopWhen { error_percent: Some(100.1), ..base }));
        assert!(!fits(StopWhen { p99: Some(Duration::ZERO), ..base }));
        let seconds = [0, 1, 3_600, 3_601].map(|seconds| fits(StopWhen { seconds, ..base }));
        assert_eq!(seconds, [false, true, true, false]);
        let requests = [0, 1, MAX_REQUESTS, MAX_REQUESTS + 1]
            .map(|n| fits(StopWhen { requests: Some(n), ..base }));
        assert_eq!(requests, [false, true, true, false]);
    }
}
