//! Load runs: requests, progress, and reports.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use verax_core::load::{
    Bend, Comparison, ConfidenceInterval, Doubt, ErrorKind, LaneFigures, Meaning, PercentilePoint,
    Percentiles,
};

use super::comparison::RunComparison;
use super::profile::LoadProfileSpec;

fn is_zero(number: &u64) -> bool {
    *number == 0
}

fn one() -> u32 {
    1
}

/// A profile by name, or in full.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(untagged)]
pub enum ProfileChoice {
    /// One of the service.
    Named(String),
    /// One in the request.
    Inline(Box<LoadProfileSpec>),
}

/// Starts a load run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LoadRequest {
    /// What to run.
    pub profile: ProfileChoice,
    /// How many processes generate the load.
    #[serde(default = "one")]
    pub workers: u32,
    /// Whether the workers that have joined from other machines generate load, too. With them
    /// `workers` may be 0.
    #[serde(default)]
    pub joined: bool,
}

/// Changes the load of an active run.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct ChangeLoad {
    /// The clients, or the requests per second, of each lane until the stage ends.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub level: Option<f64>,
    /// Whether nothing is sent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
}

/// Marks a moment of an active run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct MarkLoad {
    /// What to write on the time line.
    pub text: String,
}

/// What a mark on the time line of a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LoadMarkKind {
    /// Somebody marked the moment.
    Note,
    /// The load was changed.
    Load,
    /// Something was done to what the run reads.
    Change,
    /// Something went wrong.
    Trouble,
}

/// A mark on the time line of a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadMark {
    /// When, in seconds since the run started.
    pub at_seconds: f64,
    /// What it is.
    pub kind: LoadMarkKind,
    /// What happened.
    pub text: String,
}

/// One second of a load run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadTick {
    /// Seconds since the run started, at this second's end.
    pub at_seconds: f64,
    /// The number of the stage, from 0.
    pub stage: u32,
    /// Whether this second belongs to the warm-up, which the report excludes.
    pub warm_up: bool,
    /// The clients, or the requests per second, of each lane at its end.
    pub level: f64,
    /// Each lane within this second, in the order of the profile.
    pub lanes: Vec<LaneFigures>,
    /// The machine and its processes within this second.
    #[serde(default)]
    pub machine: MachineTick,
    /// What the service itself measured within this second.
    #[serde(default)]
    pub service: ServiceTick,
    /// The latencies of each lane within this second: HdrHistograms (encoding V2, compressed) in
    /// Base64, in microseconds. Only in the records and in exports.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub histograms: Vec<String>,
}

/// The machine and its processes within a second; a figure is absent where the system has none.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct MachineTick {
    /// The share of the processors' time that went to other guests of the machine's host, 0 to 1.
    pub stolen: Option<f64>,
    /// The processors' time that the service used, in processors.
    pub service_processors: Option<f64>,
    /// The resident memory of the service.
    pub service_memory_bytes: Option<u64>,
    /// The processors' time that the generators used, in processors.
    pub generator_processors: Option<f64>,
    /// The resident memory of the generators.
    pub generator_memory_bytes: Option<u64>,
}

/// What the service measured in the namespace of a run within a second, for all callers.
///
/// A figure is absent when there was nothing to measure.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct ServiceTick {
    /// Median latency of hits, from the request to the response inside the service.
    pub hit_p50_ms: Option<f64>,
    /// The 99th percentile of that.
    pub hit_p99_ms: Option<f64>,
    /// Median latency of reads of the origin by the service.
    pub origin_p50_ms: Option<f64>,
    /// The 99th percentile of that.
    pub origin_p99_ms: Option<f64>,
    /// Reads of the origin by the service.
    pub origin_calls: u64,
}

/// The state of a process that generates load.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WorkerState {
    /// It starts, and measures what it can do.
    Starting,
    /// It generates load.
    Running,
    /// It has ended.
    Done,
    /// It was lost.
    Lost,
}

/// A process that generates load.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadWorker {
    /// Its number, from 1.
    pub number: u32,
    /// Its process.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub process: Option<u32>,
    /// What it was named when it joined; absent for one that the service started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// Its state.
    pub state: WorkerState,
    /// The most requests per second that it sent to a bare responder in its own process.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub highest_per_second: Option<f64>,
}

/// The progress of a load run.
#[derive(Debug, Clone, PartialEq)]
pub struct LoadProgress {
    /// The second that just ended, if one did.
    pub tick: Option<LoadTick>,
    /// All lanes since the warm-up ended; `None` before the first second.
    pub so_far: Option<LoadReport>,
    /// The processes that generate the load.
    pub workers: Vec<LoadWorker>,
    /// What the generators have to say.
    pub marks: Vec<LoadMark>,
}

/// A lane of a report.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LaneReport {
    /// Its name.
    pub name: String,
    /// Whether its reads can hit.
    pub is_cached: bool,
    /// Its figures after the warm-up.
    pub figures: LaneFigures,
    /// In an open loop: the requests that had been due for a second when the run ended, and were
    /// not answered. They are not among its figures, which look better for it.
    #[serde(default)]
    pub unanswered: u64,
    /// Its figures in the warm-up, if there was one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warm_up: Option<LaneFigures>,
    /// In a closed loop: the latencies corrected for coordinated omission.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub corrected: Option<Percentiles>,
    /// In an open loop: the latencies from when requests were sent, not from when they were due.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from_send: Option<Percentiles>,
    /// The distribution of its latencies.
    #[serde(default)]
    pub curve: Vec<PercentilePoint>,
    /// How sure the throughput is, with a confidence of 95 %: a bootstrap over the seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throughput_interval: Option<ConfidenceInterval>,
    /// How sure the median is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p50_interval: Option<ConfidenceInterval>,
    /// How sure the 99th percentile is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p99_interval: Option<ConfidenceInterval>,
    /// Where it bends, in a run with several levels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bend: Option<Bend>,
}

/// A lane compared with another one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LaneComparison {
    /// The lane.
    pub lane: String,
    /// The other lane.
    pub against: String,
    /// How they compare.
    #[serde(flatten)]
    pub comparison: Comparison,
}

/// A stage of a report.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct StageReport {
    /// Its name.
    pub name: String,
    /// Its level of load: at its end, if it is a ramp.
    pub level: f64,
    /// Whether the load moved there.
    pub ramp: bool,
    /// Whether it belongs to the warm-up.
    pub warm_up: bool,
    /// When it began, in seconds since the run started.
    pub from_seconds: f64,
    /// How many seconds it took.
    pub seconds: f64,
    /// Each lane within it.
    pub lanes: Vec<LaneFigures>,
}

/// A goal, and whether it was met.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MetGoal {
    /// What was expected, such as `cached p99 at most 20 ms`.
    pub goal: String,
    /// What was measured; absent if nothing was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured: Option<f64>,
    /// Whether it was met.
    pub is_met: bool,
}

/// What a load run measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadReport {
    /// Seconds measured, without the warm-up.
    pub measured_seconds: f64,
    /// How many keys the lanes read.
    pub keys: u64,
    /// The lanes, in the order of the profile.
    pub lanes: Vec<LaneReport>,
    /// The first lane compared with each of the others.
    pub comparisons: Vec<LaneComparison>,
    /// The stages so far.
    #[serde(default)]
    pub stages: Vec<StageReport>,
    /// Failed requests by lane, kind and message, the most frequent first.
    #[serde(default)]
    pub errors: Vec<ReadErrors>,
    /// Why the lanes cannot be compared; empty if they can.
    #[serde(default)]
    pub doubts: Vec<LoadDoubt>,
    /// The goals of the profile.
    #[serde(default)]
    pub goals: Vec<MetGoal>,
    /// Against the baseline of the profile, if it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against_baseline: Option<RunComparison>,
    /// What the figures of the first lane mean, each with its formula; only of a run whose lanes
    /// can be compared.
    #[serde(default)]
    pub meanings: Vec<Meaning>,
}

impl LoadReport {
    /// The first lane against the second.
    pub fn comparison(&self) -> Option<&Comparison> {
        self.comparisons.first().map(|first| &first.comparison)
    }
}

/// Why the figures of a load run say little.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadDoubt {
    /// `errors`, `nothing-read`, `unanswered`, `cold`, `generator-bound`, `workers-lost`,
    /// `disturbed`, `ended-early` or `stopped`.
    pub kind: String,
    /// What is wrong, and what to do.
    pub detail: String,
}

impl From<&Doubt> for LoadDoubt {
    fn from(doubt: &Doubt) -> Self {
        Self { kind: doubt.name().to_owned(), detail: doubt.to_string() }
    }
}

/// Failed requests of one lane that ended with one message.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ReadErrors {
    /// The lane.
    pub lane: String,
    /// The kind of failure.
    pub kind: ErrorKind,
    /// Why they failed; `other messages` for those that are not listed.
    pub message: String,
    /// How many they are.
    pub count: u64,
}

/// A load run, running or ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadRun {
    /// Its identifier.
    pub id: u64,
    /// What it runs.
    pub profile: LoadProfileSpec,
    /// `running`, `done`, `stopped`, `failed` or `interrupted`.
    pub state: String,
    /// When it started.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub started_at: Timestamp,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Its measurements so far, or in all; absent before the first second.
    pub report: Option<LoadReport>,
    /// Second by second; empty in lists.
    #[serde(default)]
    pub ticks: Vec<LoadTick>,
    /// The number of the first of them, from 0: a live stream has only those that are new.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub first_tick: u64,
    /// What happened meanwhile.
    #[serde(default)]
    pub marks: Vec<LoadMark>,
    /// The processes that generate the load.
    #[serde(default)]
    pub workers: Vec<LoadWorker>,
    /// Whether it is paused.
    #[serde(default)]
    pub paused: bool,
    /// Whether another Verax ran it.
    #[serde(default)]
    pub is_imported: bool,
}

impl LoadTick {
    fn without_histograms(&self) -> Self {
        Self {
            at_seconds: self.at_seconds,
            stage: self.stage,
            warm_up: self.warm_up,
            level: self.level,
            lanes: self.lanes.clone(),
            machine: self.machine,
            service: self.service,
            histograms: Vec::new(),
        }
    }
}

impl LoadRun {
    /// The run with its ticks from a number on, without their histograms.
    pub fn since_tick(&self, from: usize) -> Self {
        let ticks = self.ticks.get(from..).unwrap_or_default().iter();
        let ticks = ticks.map(LoadTick::without_histograms).collect();
        Self {
            id: self.id,
            profile: self.profile.clone(),
            state: self.state.clone(),
            started_at: self.started_at,
            reason: self.reason.clone(),
            report: self.report.clone(),
            ticks,
            first_tick: from as u64,
            marks: self.marks.clone(),
            workers: self.workers.clone(),
            paused: self.paused,
            is_imported: self.is_imported,
        }
    }

    /// The run without its ticks.
    pub fn without_ticks(&self) -> Self {
        Self { first_tick: 0, ..self.since_tick(usize::MAX) }
    }
}
