//! When requests are sent: in a closed loop, or when they are due, whatever the responses.

use std::time::Duration;

use rand::{Rng, RngExt};
use serde::{Deserialize, Serialize};

use super::invalid_profile::InvalidProfile;
use super::level_unit::LevelUnit;
use super::limits::{MAX_CLIENTS, MAX_PACE, MAX_RATE};

/// The most requests of a lane in flight in an open loop, unless the profile says otherwise.
pub const DEFAULT_MAX_IN_FLIGHT: u32 = 256;

/// How far a varying rate is integrated at a time, in seconds.
pub(super) const STEP: f64 = 0.01;

/// The longest pause of a client.
const MAX_THINK_TIME: Duration = Duration::from_secs(60);

/// When the requests of a lane are sent.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub enum Arrivals {
    /// Each client sends its next request after the response to the one before.
    Closed {
        /// How long it pauses in between.
        think_time: Duration,
    },
    /// Instances of an application: each has connections of its own, which its clients share.
    Instances {
        /// The clients of each.
        clients_each: u32,
        /// How long a client pauses in between.
        think_time: Duration,
    },
    /// Requests are due at a rate, whether or not earlier ones were answered.
    Open {
        /// How they are spread.
        spacing: Spacing,
        /// The most in flight. Requests that are due beyond that wait; their latency counts from
        /// when they were due.
        max_in_flight: u32,
    },
    /// Requests are due when those of a recording were, at a multiple of its pace.
    Recorded {
        /// The most in flight, as at a rate.
        max_in_flight: u32,
    },
}

/// How the requests of an open loop are spread over time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum Spacing {
    /// At random, independently of each other: a Poisson process, as of many unrelated users.
    #[default]
    Poisson,
    /// At even distances.
    Even,
}

impl Arrivals {
    /// A closed loop without pauses.
    pub fn closed() -> Self {
        Self::Closed { think_time: Duration::ZERO }
    }

    /// Whether requests are due at moments of their own, whether or not earlier ones were answered.
    pub fn is_open(&self) -> bool {
        matches!(self, Self::Open { .. } | Self::Recorded { .. })
    }

    /// The unit of a stage's level.
    pub fn unit(&self) -> LevelUnit {
        match self {
            Self::Closed { .. } => LevelUnit::Clients,
            Self::Instances { .. } => LevelUnit::Instances,
            Self::Open { .. } => LevelUnit::PerSecond,
            Self::Recorded { .. } => LevelUnit::Pace,
        }
    }

    /// How long a client of a closed loop pauses; `None` in an open one.
    pub fn think_time(&self) -> Option<Duration> {
        match self {
            Self::Closed { think_time } | Self::Instances { think_time, .. } => Some(*think_time),
            Self::Open { .. } | Self::Recorded { .. } => None,
        }
    }

    /// The clients of an instance; without instances, each client is one by itself.
    pub fn clients_each(&self) -> u32 {
        match self {
            Self::Instances { clients_each, .. } => *clients_each,
            _ => 1,
        }
    }

    /// The most clients of a lane in each of `of` generators together, when the highest level is
    /// `highest`.
    pub fn most_clients(&self, highest: f64, of: u32) -> u32 {
        match self {
            Self::Closed { .. } => highest as u32,
            Self::Instances { clients_each, .. } => (highest as u32).saturating_mul(*clients_each),
            Self::Open { max_in_flight, .. } | Self::Recorded { max_in_flight } => {
                max_in_flight.saturating_mul(of)
            }
        }
    }

    pub(super) fn check(&self) -> Result<(), InvalidProfile> {
        if let Some(think_time) = self.think_time().filter(|time| *time > MAX_THINK_TIME) {
            let (value, range) = (think_time.as_secs_f64(), "use 0 to 60 seconds");
            return Err(InvalidProfile::Number { what: "think_seconds", value, range });
        }
        match self {
            Self::Instances { clients_each, .. } if !(1..=MAX_CLIENTS).contains(clients_each) => {
                let (value, range) = (f64::from(*clients_each), "use 1 to 1000");
                Err(InvalidProfile::Number { what: "clients_each", value, range })
            }
            Self::Open { max_in_flight, .. } | Self::Recorded { max_in_flight }
                if !(1..=MAX_CLIENTS).contains(max_in_flight) =>
            {
                let (value, range) = (f64::from(*max_in_flight), "use 1 to 1000");
                Err(InvalidProfile::Number { what: "max_in_flight", value, range })
            }
            _ => Ok(()),
        }
    }

    /// Checks the level of a stage, or one that somebody sets while a run is active.
    ///
    /// # Errors
    /// [`InvalidProfile`] says what is possible.
    pub fn check_level(&self, level: f64) -> Result<(), InvalidProfile> {
        let is_count = level.fract() == 0.0 && level >= 1.0;
        let (is_possible, fault) = match self {
            Self::Closed { .. } => {
                (is_count && level <= f64::from(MAX_CLIENTS), InvalidProfile::Clients(level))
            }
            Self::Instances { clients_each, .. } => {
                let clients = level * f64::from(*clients_each);
                let fault = InvalidProfile::Instances { level, clients_each: *clients_each };
                (is_count && clients <= f64::from(MAX_CLIENTS), fault)
            }
            Self::Open { .. } => (level > 0.0 && level <= MAX_RATE, InvalidProfile::Rate(level)),
            Self::Recorded { .. } => {
                (level > 0.0 && level <= MAX_PACE, InvalidProfile::Pace(level))
            }
        };
        is_possible.then_some(()).ok_or(fault)
    }
}

/// The moments at which the requests of an open loop are due.
#[derive(Debug)]
pub struct ArrivalClock<R> {
    spacing: Spacing,
    random: R,
    at: f64,
    /// What is left of the distance to the next request, in requests.
    left: f64,
}

impl<R: Rng> ArrivalClock<R> {
    /// A clock that starts at zero. `share` of `of` generators have even distances together.
    pub fn new(spacing: Spacing, share: u32, of: u32, random: R) -> Self {
        let mut clock = Self { spacing, random, at: 0.0, left: 0.0 };
        clock.left = match spacing {
            Spacing::Even => f64::from(share + 1) / f64::from(of),
            Spacing::Poisson => clock.distance(),
        };
        clock
    }

    fn distance(&mut self) -> f64 {
        match self.spacing {
            Spacing::Even => 1.0,
            // The inverse of the exponential distribution; 1 − u is never zero.
            Spacing::Poisson => -(1.0 - self.random.random::<f64>()).ln(),
        }
    }

    /// The next moment after the last one, if it is before `until`. `rate` is the requests per
    /// second at a moment; the distances are integrated over it, so they are right while it
    /// changes.
    pub fn next(&mut self, until: Duration, rate: impl Fn(Duration) -> f64) -> Option<Duration> {
        let until = until.as_secs_f64();
        while self.at < until {
            let rate = rate(Duration::from_secs_f64(self.at)).max(0.0);
            let step = STEP.min(until - self.at);
            if rate * step < self.left {
                self.left -= rate * step;
                self.at += step;
                continue;
            }
            self.at += self.left / rate;
            self.left = self.distance();
            return Some(Duration::from_secs_f64(self.at));
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;

    use super::*;

    fn moments(
        spacing: Spacing,
        share: u32,
        of: u32,
        seconds: u64,
        rate: impl Fn(Duration) -> f64,
    ) -> Vec<f64> {
        let mut clock =
            ArrivalClock::new(spacing, share, of, ChaCha8Rng::seed_from_u64(u64::from(share)));
        let until = Duration::from_secs(seconds);
        std::iter::from_fn(|| clock.next(until, &rate)).map(|at| at.as_secs_f64()).collect()
    }

    #[test]
    fn even_requests_have_even_distances_across_workers() {
        let rate = |_| 5.0;
        let mut all =
            [moments(Spacing::Even, 0, 2, 4, rate), moments(Spacing::Even, 1, 2, 4, rate)].concat();
        all.sort_by(f64::total_cmp);
        assert!(all.windows(2).all(|two| (two[1] - two[0] - 0.1).abs() < 1e-6), "{all:?}");
        assert!((39..=40).contains(&all.len()));
    }

    #[test]
    fn random_requests_have_the_distances_of_a_poisson_process() {
        let moments = moments(Spacing::Poisson, 3, 4, 200, |_| 100.0);
        let mean = 200.0 / moments.len() as f64;
        assert!((mean / 0.01 - 1.0).abs() < 0.03, "{mean}");
        let distances: Vec<f64> = moments.windows(2).map(|two| two[1] - two[0]).collect();
        let variance =
            distances.iter().map(|d| (d - mean).powi(2)).sum::<f64>() / distances.len() as f64;
        // An exponential distribution has a deviation that equals its mean.
        assert!((variance.sqrt() / mean - 1.0).abs() < 0.05, "{variance}");
        let long = distances.iter().filter(|d| **d > 2.0 * mean).count() as f64;
        let share = long / distances.len() as f64;
        assert!((share - (-2.0_f64).exp()).abs() < 0.01, "{share}");
    }

    #[test]
    fn a_ramp_sends_what_is_below_it() {
        // From 0 to 200 per second within 10 seconds: 1,000 requests, a quarter in the first half.
        let ramp = |at: Duration| at.as_secs_f64() * 20.0;
        let moments = moments(Spacing::Even, 0, 1, 10, ramp);
        assert!((995..=1_001).contains(&moments.len()), "{}", moments.len());
        let early = moments.iter().filter(|at| **at < 5.0).count();
        assert!((247..=252).contains(&early), "{early}");
    }

    #[test]
    fn nothing_is_due_at_a_rate_of_zero() {
        assert!(moments(Spacing::Poisson, 0, 1, 5, |_| 0.0).is_empty());
    }

    #[test]
    fn levels_are_bounded_on_both_sides() {
        let open = Arrivals::Open { spacing: Spacing::Even, max_in_flight: 1 };
        let fits = |arrivals: Arrivals, level| arrivals.check_level(level).is_ok();
        assert!(fits(open, 0.1) && fits(open, MAX_RATE));
        assert!(!fits(open, 0.0) && !fits(open, MAX_RATE + 1.0) && !fits(open, f64::NAN));
        let closed = Arrivals::closed();
        assert!(fits(closed, 1.0) && fits(closed, 1_000.0));
        assert!(!fits(closed, 0.0) && !fits(closed, 1_001.0) && !fits(closed, 1.5));
        assert!(!fits(closed, f64::NAN));
        let in_flight = |max_in_flight| {
            Arrivals::Open { spacing: Spacing::Even, max_in_flight }.check().is_ok()
        };
        assert_eq!([0, 1, 1_000, 1_001].map(in_flight), [false, true, true, false]);
        let instances =
            |clients_each| Arrivals::Instances { clients_each, think_time: Duration::ZERO };
        assert!(fits(instances(8), 1.0) && fits(instances(8), 125.0));
        assert!(!fits(instances(8), 126.0) && !fits(instances(8), 1.5) && !fits(instances(8), 0.0));
        assert_eq!(
            [0, 1, 1_000, 1_001].map(|n| instances(n).check().is_ok()),
            [false, true, true, false]
        );
        let recorded = Arrivals::Recorded { max_in_flight: 1 };
        assert!(fits(recorded, 0.1) && fits(recorded, MAX_PACE));
        assert!(!fits(recorded, 0.0) && !fits(recorded, MAX_PACE + 1.0));
        let think = |ms| Arrivals::Closed { think_time: Duration::from_millis(ms) }.check().is_ok();
        assert_eq!([0, 60_000, 60_001].map(think), [true, true, false]);
    }
}
