//! Whether the figures of a load run can be compared: nothing passes that failed.

use std::fmt;

use super::comparison::LaneFigures;
use super::profile::Lane;

/// With a larger share of failed reads, a lane is not compared.
pub const MAX_ERROR_SHARE: f64 = 0.01;

/// With fewer hits, the cached lane shows what the origin does, not the cache.
pub const MIN_HIT_RATIO: f64 = 0.5;

/// With a larger share of the time taken away by the machine, figures are the machine's.
pub const MAX_STOLEN_SHARE: f64 = 0.05;

/// Why the figures of a run say little.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Doubt {
    /// Too many reads of a lane failed.
    Errors(Lane, f64),
    /// A lane answered nothing.
    NothingRead(Lane),
    /// The cached lane hardly ever hit.
    Cold(f64),
    /// The machine took time away from what runs on it.
    Disturbed(f64),
    /// Somebody stopped the run.
    Stopped,
}

impl Doubt {
    /// Its name for programs.
    pub const fn name(&self) -> &'static str {
        match self {
            Self::Errors(..) => "errors",
            Self::NothingRead(_) => "nothing-read",
            Self::Cold(_) => "cold",
            Self::Disturbed(_) => "disturbed",
            Self::Stopped => "stopped",
        }
    }
}

impl fmt::Display for Doubt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Errors(lane, share) => write!(
                f,
                "{:.1} % of the {} reads failed, more than {:.0} %",
                share * 100.0,
                lane.name(),
                MAX_ERROR_SHARE * 100.0
            ),
            Self::NothingRead(lane) => write!(f, "the {} lane answered nothing", lane.name()),
            Self::Cold(ratio) => write!(
                f,
                "the cache was cold: {:.1} % of the cached reads were hits, fewer than {:.0} %; warm \
                 it first, or give the run a longer warm-up",
                ratio * 100.0,
                MIN_HIT_RATIO * 100.0
            ),
            Self::Disturbed(share) => write!(
                f,
                "the machine was disturbed: {:.1} % of the processor time went to other guests of \
                 its host, more than {:.0} %",
                share * 100.0,
                MAX_STOLEN_SHARE * 100.0
            ),
            Self::Stopped => f.write_str("the run was stopped before its end"),
        }
    }
}

/// The reasons not to compare the lanes of a run. `stolen` is the share of the processors' time
/// that the machine's host took away, if that is known.
pub fn doubts(cached: &LaneFigures, direct: &LaneFigures, stolen: Option<f64>) -> Vec<Doubt> {
    let mut doubts = Vec::new();
    for (lane, figures) in [(Lane::Cached, cached), (Lane::Direct, direct)] {
        let share = figures.errors as f64 / (figures.requests as f64).max(1.0);
        if figures.errors == figures.requests {
            doubts.push(Doubt::NothingRead(lane));
        } else if share > MAX_ERROR_SHARE {
            doubts.push(Doubt::Errors(lane, share));
        }
    }
    doubts.extend(cached.hit_ratio.filter(|ratio| *ratio < MIN_HIT_RATIO).map(Doubt::Cold));
    doubts.extend(stolen.filter(|share| *share > MAX_STOLEN_SHARE).map(Doubt::Disturbed));
    doubts
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::super::comparison::{LaneRecorder, Outcome};
    use super::*;

    fn lane(answered: u64, failed: u64, hits: u64) -> LaneFigures {
        let mut recorder = LaneRecorder::default();
        for number in 0..answered + failed {
            let outcome = match number {
                number if number < hits => Outcome::Hit,
                number if number < answered => Outcome::FromOrigin,
                _ => Outcome::Error,
            };
            recorder.record(Duration::from_millis(1), outcome);
        }
        recorder.figures(Duration::from_secs(1), hits > 0)
    }

    fn names(cached: &LaneFigures, direct: &LaneFigures, stolen: Option<f64>) -> Vec<&'static str> {
        doubts(cached, direct, stolen).iter().map(Doubt::name).collect()
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
    fn doubts_say_what_is_wrong_in_figures() {
        let text = Doubt::Errors(Lane::Direct, 0.123).to_string();
        assert_eq!(text, "12.3 % of the direct reads failed, more than 1 %");
        assert!(Doubt::Cold(0.2).to_string().contains("20.0 % of the cached reads were hits"));
    }
}
