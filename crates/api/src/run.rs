//! What warm runs, load runs and drills have in common.

use serde::de::DeserializeOwned;

use crate::{DrillRun, LoadRun, TrafficRecording, WarmRun};

/// A run of the service, as clients list, follow and stop it.
pub trait Run: DeserializeOwned + Send {
    /// The path segment of the collection that has the runs of this kind.
    const COLLECTION: &'static str;

    /// What people call it.
    const NAME: &'static str;

    /// Whether it can be ended early.
    const CAN_BE_STOPPED: bool = true;

    /// Its identifier.
    fn id(&self) -> u64;

    /// Its state: `running`, `done`, `stopped`, `failed` or `interrupted`.
    fn state(&self) -> &str;

    /// Whether the service stopped before the run ended.
    fn is_cut_short(&self) -> bool {
        matches!(self.state(), "running" | "interrupted")
    }
}

impl Run for WarmRun {
    const COLLECTION: &'static str = "warm-runs";
    const NAME: &'static str = "warm run";

    fn id(&self) -> u64 {
        self.id
    }

    fn state(&self) -> &str {
        &self.state
    }
}

impl Run for LoadRun {
    const COLLECTION: &'static str = "load-runs";
    const NAME: &'static str = "load run";

    fn id(&self) -> u64 {
        self.id
    }

    fn state(&self) -> &str {
        &self.state
    }
}

impl Run for TrafficRecording {
    const COLLECTION: &'static str = "traffic-recordings";
    const NAME: &'static str = "recording";

    fn id(&self) -> u64 {
        self.id
    }

    fn state(&self) -> &str {
        &self.state
    }
}

impl Run for DrillRun {
    const COLLECTION: &'static str = "drill-runs";
    const NAME: &'static str = "drill";
    // It would leave its namespaces and faults behind.
    const CAN_BE_STOPPED: bool = false;

    fn id(&self) -> u64 {
        self.id
    }

    fn state(&self) -> &str {
        &self.state
    }
}
