//! The traits that run load runs and drills, so that the control plane depends neither on the
//! client of the load lanes nor on the demo.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use tokio::sync::watch;
use verax_api::{DrillRequest, DrillSide, DrillSpec, LoadProgress, LoadReport};
use verax_core::load::LoadProfile;
use verax_core::{Key, KeyPattern, Name};
use verax_origin::Origin;

/// A load run, ready to start.
#[derive(Debug, Clone)]
pub struct LoadPlan {
    /// The profile.
    pub profile: LoadProfile,
    /// The tenant of the namespace that the cached lane reads.
    pub tenant: Name,
    /// The namespace that the cached lane reads.
    pub namespace: Name,
    /// A token that opens it while the run lasts.
    pub token: String,
    /// The keys, most popular first.
    pub keys: Vec<Key>,
    /// The origin that the direct lane reads.
    pub origin: Arc<Origin>,
    /// The pattern that turns a key into values for the origin.
    pub key_pattern: KeyPattern,
}

/// Receives every second of a load run.
pub type ProgressSink = Arc<dyn Fn(LoadProgress) + Send + Sync>;

/// True when a load run must end early.
pub type StopSignal = watch::Receiver<bool>;

/// An active run.
pub type RunningLoad = Pin<Box<dyn Future<Output = Result<LoadReport, String>> + Send>>;

/// Runs load runs.
pub trait LoadRunner: fmt::Debug + Send + Sync {
    /// Runs a plan until it ends or is stopped; the error says why it could not run.
    fn run(&self, plan: LoadPlan, progress: ProgressSink, stop: StopSignal) -> RunningLoad;
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
