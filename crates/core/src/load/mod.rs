//! The maths of load runs: which keys to read and when, how to count, how to compare and judge.
//!
//! Sending the requests is the work of the load crate; nothing here sends anything.

mod arrivals;
mod bend;
mod comparison;
mod difference;
mod goals;
mod interval;
mod interval_log;
mod invalid_profile;
mod level_unit;
mod limits;
mod meaning;
mod mix;
mod outcome;
mod popularity;
mod profile;
mod recorded;
mod recorder;
mod replay;
mod scalability;
mod stages;
mod steering;
mod stop_when;
mod target;
mod timeline;
mod verdict;

pub use arrivals::{ArrivalClock, Arrivals, DEFAULT_MAX_IN_FLIGHT, Spacing};
pub use bend::{Bend, Limit, LoadStep, bend};
pub use comparison::Comparison;
pub use difference::{Difference, Verdict, difference};
pub use goals::{Goal, GoalResult, Measure};
pub use interval::{
    CONFIDENCE, ConfidenceInterval, MIN_SLICES, PairedSlice, mean_interval, ratio_interval,
    ratio_of_means_interval,
};
pub use interval_log::{LoggedInterval, interval_log};
pub use invalid_profile::InvalidProfile;
pub use level_unit::LevelUnit;
pub use limits::{
    DURATIONS, LANES, MAX_CLIENTS, MAX_LENGTH, MAX_PACE, MAX_RATE, MAX_REQUESTS, MAX_STAGES,
    MAX_WORKERS,
};
pub use meaning::{Capacities, DEFAULT_PEAK_TO_AVERAGE, Meaning, Traffic, meanings};
pub use mix::{Action, MAX_VALUE_BYTES, Mix, ValueSize};
pub use outcome::{ErrorKind, Outcome, ReadKind};
pub use popularity::{InvalidPopularity, KeyChooser, KeySequence, Popularity};
pub use profile::{LaneOrder, LaneProfile, LaneReads, LoadProfile, RefillBy, Transport};
pub use recorded::{InvalidRecording, RecordedRead, RecordedReads};
pub use recorder::{
    InvalidRecorder, LaneFigures, LaneRecorder, PercentilePoint, Percentiles, RecordedLane,
};
pub use replay::ReplayClock;
pub use scalability::{MIN_STEPS, Scalability, Step, fit_scalability};
pub use stages::{Stage, StageNow, Stages};
pub use steering::{ChangedLevel, Steering};
pub use stop_when::{DEFAULT_SECONDS, EarlyEnd, StopWatch, StopWhen};
pub use target::{LaneTarget, OriginTarget};
pub use timeline::{Moment, TICK, Timeline};
pub use verdict::{
    Doubt, GeneratorLimit, JudgedLane, MAX_ERROR_SHARE, MAX_GENERATOR_PROCESSOR,
    MAX_GENERATOR_SHARE, MAX_STOLEN_SHARE, MIN_HIT_RATIO, doubts,
};
