//! Why a load profile cannot be run.

use super::limits::{MAX_CLIENTS, MAX_LENGTH, MAX_PACE, MAX_RATE, MAX_STAGES};
use crate::name::Name;

/// Why a profile cannot be run.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum InvalidProfile {
    /// A number of clients.
    #[error("clients = {0} is out of range: use 1 to {MAX_CLIENTS}")]
    Clients(f64),
    /// A number of instances.
    #[error(
        "instances = {level} with {clients_each} clients each is out of range: use whole instances, \
         with 1 to {MAX_CLIENTS} clients together"
    )]
    Instances {
        /// How many.
        level: f64,
        /// The clients of each.
        clients_each: u32,
    },
    /// A pace.
    #[error("speed = {0} is out of range: use more than 0 and at most {MAX_PACE}")]
    Pace(f64),
    /// A rate.
    #[error("a rate of {0} is out of range: use more than 0 and at most {MAX_RATE} per second")]
    Rate(f64),
    /// No time to measure, or too much.
    #[error(
        "the run would measure {measured} seconds of {total}: measure at least 1 second, and at \
         most {} with the warm-up", MAX_LENGTH.as_secs()
    )]
    Duration {
        /// The measured time, in seconds.
        measured: f64,
        /// All of it, in seconds.
        total: f64,
    },
    /// A stage without length, or too many stages.
    #[error("stage {0} has no length: give it seconds")]
    EmptyStage(usize),
    /// Too many stages.
    #[error("{0} stages are too many: use at most {MAX_STAGES}")]
    Stages(usize),
    /// A warm-up behind a measured stage.
    #[error("stage {0} is a warm-up behind a measured stage: a warm-up comes first")]
    LateWarmUp(usize),
    /// Too few or too many lanes.
    #[error("{0} lanes are out of range: use 2 to 6")]
    Lanes(usize),
    /// Two lanes of one name.
    #[error("two lanes are named {0}: each lane needs a name of its own")]
    SameLane(Name),
    /// A goal of no lane.
    #[error("a goal names the lane {0}, which the profile does not have")]
    GoalLane(Name),
    /// A share out of range.
    #[error("{what} is {value} %: use 0 to 100, and all shares together at most 100")]
    Share {
        /// Which.
        what: &'static str,
        /// Its value, in percent.
        value: f64,
    },
    /// A number out of range.
    #[error("{what} = {value} is out of range: {range}")]
    Number {
        /// Which.
        what: &'static str,
        /// Its value.
        value: f64,
        /// What is possible.
        range: &'static str,
    },
    /// Writes of made-up values without the leave to.
    #[error(
        "puts store made-up values in the namespace: say writes_allowed = true in the mix if its \
         entries may be overwritten"
    )]
    Writes,
}
