//! Where a stepped run bends, and what limits it there.
//!
//! The *knee* is the step with the highest power: throughput divided by mean latency (Kleinrock,
//! *Power and deterministic rules of thumb for probabilistic problems in computer communications*,
//! 1979). Below it, more clients bring more throughput; above it, mostly longer waits. The
//! universal scalability law, fitted to the same steps, says what comes beyond the last one.

use serde::{Deserialize, Serialize};

use super::scalability::{Scalability, Step, fit_scalability};
use super::verdict::{MAX_ERROR_SHARE, MAX_GENERATOR_PROCESSOR};

/// With less gained per further client than this share of the first one's throughput, a lane is
/// saturated.
const SATURATED_GAIN: f64 = 0.25;

/// A law that is off by more than this share of a step does not describe the steps.
const MAX_LAW_ERROR: f64 = 0.25;

/// A step of a run, in one lane.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LoadStep {
    /// The clients, instances, or requests per second that were due.
    pub level: f64,
    /// Successful requests per second.
    pub per_second: f64,
    /// Their mean latency, in milliseconds.
    pub mean_ms: f64,
    /// The share of failed requests, 0 to 1.
    pub error_share: f64,
    /// The processors that the busiest generator used, if that is known.
    pub generator_processors: Option<f64>,
}

/// What limits a lane at its highest step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Limit {
    /// Too many requests fail.
    Errors,
    /// The generator has no processor time left.
    Generator,
    /// What the lane reads answers no more requests.
    Saturated,
    /// More load still brings more throughput.
    NotReached,
}

/// Where a lane bends.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Bend {
    /// The level with the highest throughput for its latency; in an open loop, in requests per
    /// second.
    pub knee_level: f64,
    /// The throughput there.
    pub knee_per_second: f64,
    /// The mean latency there, in milliseconds.
    pub knee_ms: f64,
    /// What limits the lane.
    pub limit: Limit,
    /// Whether the highest step had less throughput than an earlier one, beyond the error of the
    /// fit: more clients would lower it.
    pub declines: bool,
    /// The scalability law over the steps, in a closed loop with enough steps that follow it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub law: Option<Scalability>,
}

impl LoadStep {
    fn power(&self) -> f64 {
        self.per_second / self.mean_ms.max(1e-9)
    }
}

/// Where a lane bends over some steps, in rising order of their levels; `None` with fewer than two
/// that answered anything. In an open loop there is no law: throughput follows the rate until it
/// cannot.
pub fn bend(steps: &[LoadStep], is_open: bool) -> Option<Bend> {
    let answered: Vec<&LoadStep> = steps.iter().filter(|step| step.per_second > 0.0).collect();
    let [.., before, last] = &answered[..] else { return None };
    let knee = match is_open {
        // The highest rate that is still answered as it is due.
        true => {
            let kept = answered.iter().rev().find(|step| step.per_second >= 0.95 * step.level);
            kept.unwrap_or(&answered[0])
        }
        false => answered.iter().max_by(|a, b| a.power().total_cmp(&b.power()))?,
    };
    let of_first = answered[0].per_second / answered[0].level.max(1e-9);
    let gain = (last.per_second - before.per_second) / (last.level - before.level).max(1e-9);
    let is_saturated = gain < SATURATED_GAIN * of_first;
    let limit = if steps.iter().any(|step| step.error_share > MAX_ERROR_SHARE) {
        Limit::Errors
    } else if last.generator_processors.is_some_and(|used| used > MAX_GENERATOR_PROCESSOR) {
        Limit::Generator
    } else if is_saturated {
        Limit::Saturated
    } else {
        Limit::NotReached
    };
    let law = (!is_open)
        .then(|| {
            let steps = answered
                .iter()
                .map(|step| Step { clients: step.level, per_second: step.per_second });
            fit_scalability(&steps.collect::<Vec<_>>())
        })
        .flatten()
        .filter(|law| law.largest_error <= MAX_LAW_ERROR);
    let highest = answered.iter().map(|step| step.per_second).fold(0.0, f64::max);
    let error = law.map_or(0.05, |law| law.largest_error.max(0.05));
    Some(Bend {
        knee_level: knee.level,
        knee_per_second: knee.per_second,
        knee_ms: knee.mean_ms,
        limit,
        declines: last.per_second < highest * (1.0 - error),
        law,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Steps of a closed loop over a system of `servers` that each answer in `ms`: the asymptotic
    /// bounds of operational analysis, which a deterministic system reaches.
    fn bounded(levels: &[f64], servers: f64, ms: f64) -> Vec<LoadStep> {
        let step = |level: &f64| {
            let per_second = level.min(servers) * 1_000.0 / ms;
            LoadStep {
                level: *level,
                per_second,
                mean_ms: 1_000.0 * level / per_second,
                error_share: 0.0,
                generator_processors: Some(0.2),
            }
        };
        levels.iter().map(step).collect()
    }

    #[test]
    fn the_knee_is_where_all_servers_are_busy() {
        for servers in [2.0, 8.0, 32.0] {
            let steps = bounded(&[1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0], servers, 10.0);
            let bend = bend(&steps, false).unwrap();
            assert_eq!(bend.knee_level, servers);
            assert_eq!(bend.limit, Limit::Saturated);
            assert!(!bend.declines);
        }
    }

    #[test]
    fn what_still_grows_is_not_bent() {
        let steps = bounded(&[1.0, 2.0, 4.0, 8.0], 100.0, 10.0);
        let bend = bend(&steps, false).unwrap();
        assert_eq!((bend.limit, bend.knee_level), (Limit::NotReached, 8.0));
    }

    #[test]
    fn errors_and_the_generator_come_before_the_lane() {
        let mut steps = bounded(&[1.0, 2.0, 4.0, 8.0], 2.0, 10.0);
        steps[3].generator_processors = Some(0.95);
        assert_eq!(bend(&steps, false).unwrap().limit, Limit::Generator);
        steps[3].error_share = 0.02;
        assert_eq!(bend(&steps, false).unwrap().limit, Limit::Errors);
    }

    #[test]
    fn a_decline_is_told_from_noise() {
        let mut steps = bounded(&[1.0, 2.0, 4.0, 8.0, 16.0], 4.0, 10.0);
        steps[4].per_second *= 0.99;
        assert!(!bend(&steps, false).unwrap().declines);
        steps[4].per_second *= 0.5;
        assert!(bend(&steps, false).unwrap().declines);
    }

    #[test]
    fn a_law_that_does_not_describe_the_steps_is_not_reported() {
        let mut steps = bounded(&[1.0, 2.0, 4.0, 8.0, 16.0], 100.0, 10.0);
        assert!(bend(&steps, false).unwrap().law.is_some());
        steps[2].per_second /= 4.0;
        assert_eq!(bend(&steps, false).unwrap().law, None);
    }

    #[test]
    fn at_a_rate_the_knee_is_the_last_that_is_kept_up_with() {
        let step = |level: f64, per_second| LoadStep {
            level,
            per_second,
            mean_ms: 5.0,
            error_share: 0.0,
            generator_processors: None,
        };
        let steps = [step(10.0, 10.0), step(20.0, 19.5), step(40.0, 24.0)];
        let bent = bend(&steps, true).unwrap();
        assert_eq!((bent.knee_level, bent.limit, bent.law), (20.0, Limit::Saturated, None));
        assert_eq!(bend(&steps[..1], true), None);
    }
}
