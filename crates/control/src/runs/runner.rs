//! The traits that run load runs and drills, so that the control plane depends neither on the
//! client of the load lanes nor on the demo.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use tokio::io::DuplexStream;
use tokio::sync::watch;
use verax_api::{
    DrillRequest, DrillSide, DrillSpec, LoadProgress, LoadReport, StandIn, StandInChange,
};
use verax_core::Key;
use verax_core::load::{LaneTarget, LoadProfile, RecordedReads, Steering};

/// A load run, ready to start.
#[derive(Debug, Clone)]
pub struct LoadPlan {
    /// The profile.
    pub profile: LoadProfile,
    /// A token that opens the namespace of its cached lanes while the run lasts.
    pub token: String,
    /// What each lane of the profile reads.
    pub lanes: Vec<LaneTarget>,
    /// The keys, most popular first, or those of a recording by their indexes.
    pub keys: Vec<Key>,
    /// The traffic to replay, for a profile that replays some.
    pub recorded: Option<RecordedReads>,
    /// How many processes of this machine generate the load.
    pub workers: u32,
}

/// A worker of another machine that takes part in a run.
#[derive(Debug)]
pub struct JoinedGenerator {
    /// Its name.
    pub name: String,
    /// What it says and is told.
    pub stream: DuplexStream,
}

/// What an active load run reports to, and what it follows.
pub struct LoadControls {
    /// The workers of other machines that take part.
    pub joined: Vec<JoinedGenerator>,
    /// Receives its progress.
    pub progress: ProgressSink,
    /// What people change about it.
    pub steering: watch::Receiver<Steering>,
    /// True when it must end early.
    pub stop: StopSignal,
}

impl fmt::Debug for LoadControls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("LoadControls").finish_non_exhaustive()
    }
}

/// Receives the progress of a load run.
pub type ProgressSink = Arc<dyn Fn(LoadProgress) + Send + Sync>;

/// True when a load run must end early.
pub type StopSignal = watch::Receiver<bool>;

/// An active run.
pub type RunningLoad = Pin<Box<dyn Future<Output = Result<LoadReport, String>> + Send>>;

/// Runs load runs.
pub trait LoadRunner: fmt::Debug + Send + Sync {
    /// Runs a plan until it ends or is stopped; the error says why it could not run.
    fn run(&self, plan: LoadPlan, controls: LoadControls) -> RunningLoad;
}

/// The stand-in origin of the demo, whose faults can be set.
pub trait StandInHandle: fmt::Debug + Send + Sync {
    /// Its faults.
    fn faults(&self) -> StandIn;

    /// Changes them; the error says what is out of range, and nothing is changed then.
    ///
    /// # Errors
    /// Why the change is refused.
    fn change(&self, change: &StandInChange) -> Result<StandIn, String>;
}

/// Receives the sides of a drill whenever they change.
pub type DrillSink = Arc<dyn Fn(&[DrillSide]) + Send + Sync>;

/// An active drill; it ends with its finding in a sentence, or with why it could not run.
pub type RunningDrill = Pin<Box<dyn Future<Output = Result<String, String>> + Send>>;

/// Runs drills.
pub trait DrillRunner: fmt::Debug + Send + Sync {
    /// The available drills.
    fn drills(&self) -> Vec<DrillSpec>;

    /// Runs one of them.
    fn run(&self, request: &DrillRequest, sink: DrillSink) -> RunningDrill;
}
