//! What carries runs out. The control plane knows only this much of it, so that it depends neither
//! on the client that load lanes read with nor on the demo.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use tokio::sync::watch;
use verax_api::{DrillRequest, DrillSide, DrillSpec, LoadProgress, LoadReport};
use verax_core::load::LoadProfile;
use verax_core::{Key, KeyPattern, Name};
use verax_origin::Origin;

/// A load run, ready to be carried out.
#[derive(Debug, Clone)]
pub struct LoadPlan {
    /// What to do.
    pub profile: LoadProfile,
    /// The tenant of the namespace that the cached lane reads.
    pub tenant: Name,
    /// The namespace that the cached lane reads.
    pub namespace: Name,
    /// A token that opens it for as long as the run lasts.
    pub token: String,
    /// The keys, most popular first.
    pub keys: Vec<Key>,
    /// The origin that the direct lane reads.
    pub origin: Arc<Origin>,
    /// Turns a key into the origin's values.
    pub key_pattern: KeyPattern,
}

/// Is told of every second of a load run.
pub type ProgressSink = Arc<dyn Fn(LoadProgress) + Send + Sync>;

/// Becomes true when a load run is to end early.
pub type StopSignal = watch::Receiver<bool>;

/// A run under way.
pub type RunningLoad = Pin<Box<dyn Future<Output = Result<LoadReport, String>> + Send>>;

/// Carries load runs out. The service knows only this much of it, so that it does not depend on the
/// client that the lanes read with.
pub trait LoadRunner: fmt::Debug + Send + Sync {
    /// Runs a plan to its end, or until it is stopped; the error is why it could not be run.
    fn run(&self, plan: LoadPlan, progress: ProgressSink, stop: StopSignal) -> RunningLoad;
}

/// Is told of the sides of a drill whenever they change.
pub type DrillSink = Arc<dyn Fn(&[DrillSide]) + Send + Sync>;

/// A drill under way; it ends with what it shows, in a sentence, or with why it could not be run.
pub type RunningDrill = Pin<Box<dyn Future<Output = Result<String, String>> + Send>>;

/// Carries drills out.
pub trait DrillRunner: fmt::Debug + Send + Sync {
    /// The drills that there are.
    fn drills(&self) -> Vec<DrillSpec>;

    /// Runs one of them.
    fn run(&self, request: &DrillRequest, sink: DrillSink) -> RunningDrill;
}
