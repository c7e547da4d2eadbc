//! Warm runs and load runs: when they ran, and their results.

use serde_json::{Value, json};
use verax_core::{Name, Timestamp};

use super::activity::Change;
use crate::error::RecordsError;

/// The maximum length of a title, in characters.
const MAX_TITLE: usize = 200;

/// The kind of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RunKind {
    /// A warm run.
    Warm,
    /// A load run.
    Load,
    /// A recording of traffic.
    Recording,
}

/// The state of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RunState {
    /// It is active.
    Running,
    /// It ended by itself.
    Done,
    /// It failed.
    Failed,
    /// It was stopped.
    Stopped,
    /// The service ended before it did.
    Interrupted,
}

/// A run.
#[derive(Debug, Clone, PartialEq)]
pub struct RunRecord {
    /// Its identifier.
    pub id: u64,
    /// The tenant whose namespace it read.
    pub tenant: Name,
    /// The namespace it read.
    pub namespace: Name,
    /// Its title.
    pub title: String,
    /// When it started.
    pub started_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// Its state.
    pub state: RunState,
    /// Its result so far.
    pub result: Value,
}

impl RunKind {
    pub(crate) const fn name(self) -> &'static str {
        match self {
            RunKind::Warm => "warm",
            RunKind::Load => "load",
            RunKind::Recording => "recording",
        }
    }

    pub(crate) const fn action(self) -> &'static str {
        match self {
            RunKind::Warm => "warm.run",
            RunKind::Load => "load.run",
            RunKind::Recording => "load.record",
        }
    }
}

impl RunState {
    /// The states of runs that have ended.
    pub const ENDED: [Self; 4] = [Self::Done, Self::Failed, Self::Stopped, Self::Interrupted];

    /// Its name in the records and in the API.
    pub const fn name(self) -> &'static str {
        match self {
            RunState::Running => "running",
            RunState::Done => "done",
            RunState::Failed => "failed",
            RunState::Stopped => "stopped",
            RunState::Interrupted => "interrupted",
        }
    }

    pub(crate) fn read(name: &str) -> Result<Self, RecordsError> {
        use RunState::{Done, Failed, Interrupted, Running, Stopped};
        [Running, Done, Failed, Stopped, Interrupted]
            .into_iter()
            .find(|state| state.name() == name)
            .ok_or_else(|| RecordsError::Unreadable(format!("a run has the state {name:?}")))
    }
}

/// A run to start.
#[derive(Debug, Clone)]
pub struct NewRun {
    /// Its kind.
    pub kind: RunKind,
    /// The tenant whose namespace it reads.
    pub tenant: Name,
    /// The namespace it reads.
    pub namespace: Name,
    /// Its title.
    pub title: String,
    /// Details for the activity.
    pub detail: Value,
    /// Its result so far.
    pub result: Value,
    /// The slot of a schedule that it is for, by the schedule's identifier.
    pub slot: Option<(u64, Timestamp)>,
}

impl NewRun {
    pub(crate) fn short_title(&self) -> String {
        self.title.chars().take(MAX_TITLE).collect()
    }

    /// The activity of its start.
    pub(crate) fn change(&self, id: u64) -> Change {
        let mut detail = self.detail.clone();
        detail["run"] = json!(id);
        Change {
            tenant: Some(self.tenant.clone()),
            action: self.kind.action(),
            subject: format!("{}/{}", self.tenant, self.namespace),
            detail,
        }
    }
}
