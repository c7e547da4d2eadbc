//! Whether the figures of a load run can be compared: nothing passes that failed.

use std::fmt;

use super::recorder::LaneFigures;

/// With a larger share of failed reads, a lane is not compared.
pub const MAX_ERROR_SHARE: f64 = 0.01;

/// With fewer hits, the cached lane shows what the origin does, not the cache.
pub const MIN_HIT_RATIO: f64 = 0.5;

/// With a larger share of the time taken away by the machine, figures are the machine's.
pub const MAX_STOLEN_SHARE: f64 = 0.05;

/// With a larger share of the generator's highest rate, the generator may be what limits a run.
pub const MAX_GENERATOR_SHARE: f64 = 0.8;

/// With a larger share of a processor, a generator, which has one thread, may be what limits a run.
pub const MAX_GENERATOR_PROCESSOR: f64 = 0.9;

/// A generator that uses less of a processor is not at its limit, whatever its calibration says.
const MIN_BUSY_PROCESSOR: f64 = 0.7;

/// A larger share of the highest rate says that the calibration was disturbed.
const MAX_CREDIBLE_SHARE: f64 = 1.5;

/// Requests that are passed on later than this many milliseconds are late.
const MAX_LATE_MS: f64 = 20.0;

/// Why the figures of a run say little.
#[derive(Debug, Clone, PartialEq)]
pub enum Doubt {
    /// Too many requests of a lane failed.
    Errors(String, f64),
    /// A lane answered nothing.
    NothingRead(String),
    /// The first lane left so many of its requests unanswered, and this share of them.
    Unanswered(String, u64, f64),
    /// A cached lane hardly ever hit.
    Cold(String, f64),
    /// The generator reached its own limit.
    GeneratorBound(GeneratorLimit),
    /// So many of the processes that generated the load were lost.
    WorkersLost(u32),
    /// The machine took time away from what runs on it.
    Disturbed(f64),
    /// Somebody stopped the run.
    Stopped,
    /// A limit of the profile ended the run early.
    EndedEarly(String),
}

/// Which limit of its own a generator reached.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum GeneratorLimit {
    /// It had a processor to itself for this share of the time.
    Processor(f64),
    /// This is the share of the highest rate that it reached when it was calibrated.
    Rate(f64),
    /// It sent requests late: in every other second, the longest delay was above this many
    /// milliseconds.
    Late(f64),
}

/// What is known about a lane, to judge it by.
#[derive(Debug, Clone, Copy)]
pub struct JudgedLane<'a> {
    /// Its name.
    pub name: &'a str,
    /// Whether its reads can hit.
    pub is_cached: bool,
    /// Its figures after the warm-up.
    pub figures: &'a LaneFigures,
    /// The requests that were due and not answered in time.
    pub unanswered: u64,
}

impl Doubt {
    /// Its name for programs.
    pub const fn name(&self) -> &'static str {
        match self {
            Self::Errors(..) => "errors",
            Self::NothingRead(_) => "nothing-read",
            Self::Unanswered(..) => "unanswered",
            Self::Cold(..) => "cold",
            Self::GeneratorBound(_) => "generator-bound",
            Self::WorkersLost(_) => "workers-lost",
            Self::Disturbed(_) => "disturbed",
            Self::Stopped => "stopped",
            Self::EndedEarly(_) => "ended-early",
        }
    }
}

impl fmt::Display for Doubt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Errors(lane, share) => write!(
                f,
                "{:.1} % of the requests of the lane {lane} failed, more than {:.0} %",
                share * 100.0,
                MAX_ERROR_SHARE * 100.0
            ),
            Self::NothingRead(lane) => write!(f, "no request of the lane {lane} succeeded"),
            Self::Unanswered(lane, count, share) => write!(
                f,
                "{count} requests of the lane {lane}, {:.1} %, were due and not answered when the \
                 run ended, more than {:.0} %: it cannot keep up, and is slower than it looks",
                share * 100.0,
                MAX_ERROR_SHARE * 100.0
            ),
            Self::Cold(lane, ratio) => write!(
                f,
                "the cache was cold: {:.1} % of the reads of the lane {lane} were hits, fewer than \
                 {:.0} %; warm it first, or give the run a longer warm-up",
                ratio * 100.0,
                MIN_HIT_RATIO * 100.0
            ),
            Self::GeneratorBound(limit) => write!(f, "{limit}; use more workers, or less load"),
            Self::WorkersLost(count) => {
                write!(f, "{count} of the workers that generated the load were lost during the run")
            }
            Self::Disturbed(share) => write!(
                f,
                "the machine was disturbed: {:.1} % of the processor time went to other guests of \
                 its host, more than {:.0} %",
                share * 100.0,
                MAX_STOLEN_SHARE * 100.0
            ),
            Self::Stopped => f.write_str("the run was stopped before its end"),
            Self::EndedEarly(why) => write!(f, "the run ended early: {why}"),
        }
    }
}

impl fmt::Display for GeneratorLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Processor(share) => write!(
                f,
                "the generator was at its limit: it used {:.0} % of a processor",
                share * 100.0
            ),
            Self::Rate(share) => write!(
                f,
                "the generator was at its limit: it sent {:.0} % of the most that it can send",
                share * 100.0
            ),
            Self::Late(ms) => write!(
                f,
                "the generator was at its limit: in every other second it sent requests more than \
                 {ms:.1} ms late"
            ),
        }
    }
}

impl GeneratorLimit {
    /// The limit that a run reached. `processors` is how many of them the busiest generator used,
    /// `share` how much of the most that it can send, and `late_ms` the longest delay, in
    /// milliseconds, within the middle one of the seconds in the order of these delays.
    pub fn of(processors: Option<f64>, share: f64, late_ms: f64) -> Option<Self> {
        if let Some(used) = processors.filter(|used| *used > MAX_GENERATOR_PROCESSOR) {
            return Some(Self::Processor(used));
        }
        let is_busy = processors.is_none_or(|used| used > MIN_BUSY_PROCESSOR);
        if is_busy && share > MAX_GENERATOR_SHARE && share < MAX_CREDIBLE_SHARE {
            return Some(Self::Rate(share));
        }
        (late_ms > MAX_LATE_MS).then_some(Self::Late(late_ms))
    }
}

/// The reasons not to compare the lanes of a run. `stolen` is the share of the processors' time
/// that the machine's host took away, if that is known.
pub fn doubts(lanes: &[JudgedLane<'_>], stolen: Option<f64>) -> Vec<Doubt> {
    let mut doubts = Vec::new();
    for JudgedLane { name, figures, .. } in lanes {
        let share = figures.errors as f64 / (figures.requests as f64).max(1.0);
        if figures.errors == figures.requests {
            doubts.push(Doubt::NothingRead((*name).to_owned()));
        } else if share > MAX_ERROR_SHARE {
            doubts.push(Doubt::Errors((*name).to_owned(), share));
        }
    }
    // Those of the others make these look better than they are, which flatters nobody.
    if let Some(JudgedLane { name, figures, unanswered, .. }) = lanes.first() {
        let share = *unanswered as f64 / ((figures.requests + unanswered) as f64).max(1.0);
        if share > MAX_ERROR_SHARE {
            doubts.push(Doubt::Unanswered((*name).to_owned(), *unanswered, share));
        }
    }
    for JudgedLane { name, figures, .. } in lanes.iter().filter(|lane| lane.is_cached) {
        let cold = figures.hit_ratio.filter(|ratio| *ratio < MIN_HIT_RATIO);
        doubts.extend(cold.map(|ratio| Doubt::Cold((*name).to_owned(), ratio)));
    }
    doubts.extend(stolen.filter(|share| *share > MAX_STOLEN_SHARE).map(Doubt::Disturbed));
    doubts
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::super::outcome::{ErrorKind, Outcome, ReadKind};
    use super::super::recorder::LaneRecorder;
    use super::*;

    fn lane(answered: u64, failed: u64, hits: u64) -> LaneFigures {
        let mut recorder = LaneRecorder::default();
        for number in 0..answered + failed {
            let outcome = match number {
                number if number < hits => Outcome::Read(ReadKind::Hit),
                number if number < answered => Outcome::Read(ReadKind::Origin),
                _ => Outcome::Failed(ErrorKind::Other),
            };
            recorder.record(Duration::from_millis(1), None, outcome);
        }
        recorder.figures(Duration::from_secs(1), hits > 0)
    }

    fn names(cached: &LaneFigures, direct: &LaneFigures, stolen: Option<f64>) -> Vec<&'static str> {
        let lanes = [
            JudgedLane { name: "cached", is_cached: true, figures: cached, unanswered: 0 },
            JudgedLane { name: "direct", is_cached: false, figures: direct, unanswered: 0 },
        ];
        doubts(&lanes, stolen).iter().map(Doubt::name).collect()
    }

    #[test]
    fn each_bound_holds_on_both_sides() {
        let (good, direct) = (lane(1_000, 0, 900), lane(1_000, 0, 0));
        assert!(names(&good, &direct, Some(MAX_STOLEN_SHARE)).is_empty());
        assert_eq!(names(&good, &direct, Some(0.051)), ["disturbed"]);
        assert!(names(&lane(990, 10, 900), &direct, None).is_empty());
        assert_eq!(names(&lane(989, 11, 900), &direct, None), ["errors"]);
        assert_eq!(names(&good, &lane(989, 11, 0), None), ["errors"]);
        assert!(names(&lane(1_000, 0, 500), &direct, None).is_empty());
        assert_eq!(names(&lane(1_000, 0, 499), &direct, None), ["cold"]);
        assert_eq!(names(&lane(0, 7, 0), &lane(0, 0, 0), None), ["nothing-read", "nothing-read"]);
    }

    #[test]
    fn what_the_first_lane_did_not_answer_counts() {
        let figures = lane(990, 0, 990);
        let judged = |unanswered, other| {
            let lane = |name, unanswered| JudgedLane {
                name,
                is_cached: true,
                figures: &figures,
                unanswered,
            };
            let lanes = [lane("cached", unanswered), lane("direct", other)];
            doubts(&lanes, None).iter().map(Doubt::name).collect::<Vec<_>>()
        };
        assert!(judged(10, 500).is_empty());
        assert_eq!(judged(11, 0), ["unanswered"]);
    }

    #[test]
    fn a_generator_is_at_its_limit_beyond_each_bound() {
        let of = GeneratorLimit::of;
        assert_eq!(of(Some(0.9), 0.8, 20.0), None);
        assert_eq!(of(Some(0.91), 0.5, 0.0), Some(GeneratorLimit::Processor(0.91)));
        assert_eq!(of(Some(0.8), 0.81, 0.0), Some(GeneratorLimit::Rate(0.81)));
        assert_eq!(of(None, 0.81, 0.0), Some(GeneratorLimit::Rate(0.81)));
        // It had time left, or the calibration was disturbed.
        assert_eq!([of(Some(0.7), 0.85, 0.0), of(Some(0.8), 1.5, 0.0)], [None, None]);
        assert_eq!(of(Some(0.2), 0.1, 20.1), Some(GeneratorLimit::Late(20.1)));
    }

    #[test]
    fn doubts_say_what_is_wrong_in_figures() {
        let text = Doubt::Errors("direct".into(), 0.123).to_string();
        assert_eq!(text, "12.3 % of the requests of the lane direct failed, more than 1 %");
        let text = Doubt::Cold("cached".into(), 0.2).to_string();
        assert!(text.contains("20.0 % of the reads of the lane cached were hits"), "{text}");
        let text = Doubt::GeneratorBound(GeneratorLimit::Rate(0.93)).to_string();
        assert!(text.contains("it sent 93 % of the most that it can send; use more"), "{text}");
    }
}
