//! What tenants define: warm plans and schedules.

use serde_json::{Value, json};
use verax_core::{Name, Timestamp};

use super::activity::{Change, difference};
use crate::error::RecordsError;

/// The kind of a definition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DefinitionKind {
    /// A warm plan.
    WarmPlan,
    /// A schedule.
    Schedule,
    /// A load profile.
    LoadProfile,
}

impl DefinitionKind {
    /// What people call it.
    pub const fn noun(self) -> &'static str {
        match self {
            Self::WarmPlan => "warm plan",
            Self::Schedule => "schedule",
            Self::LoadProfile => "load profile",
        }
    }

    pub(crate) const fn name(self) -> &'static str {
        match self {
            Self::WarmPlan => "warm-plan",
            Self::Schedule => "schedule",
            Self::LoadProfile => "load-profile",
        }
    }

    const fn actions(self) -> [&'static str; 3] {
        match self {
            Self::WarmPlan => ["warm-plan.create", "warm-plan.change", "warm-plan.delete"],
            Self::Schedule => ["schedule.create", "schedule.change", "schedule.delete"],
            Self::LoadProfile => {
                ["load-profile.create", "load-profile.change", "load-profile.delete"]
            }
        }
    }
}

/// A definition.
#[derive(Debug, Clone, PartialEq)]
pub struct DefinitionRecord {
    /// Its identifier.
    pub id: u64,
    /// Its tenant.
    pub tenant: Name,
    /// Its name.
    pub name: Name,
    /// What it says.
    pub content: Value,
    /// When it was created.
    pub created_at: Timestamp,
    /// When it was last changed.
    pub changed_at: Timestamp,
}

/// Where a definition is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DefinitionPath {
    /// Its kind.
    pub kind: DefinitionKind,
    /// Its tenant.
    pub tenant: Name,
    /// Its name.
    pub name: Name,
}

impl DefinitionPath {
    pub(crate) fn subject(&self) -> String {
        format!("{}/{}", self.tenant, self.name)
    }

    pub(crate) fn missing(&self) -> RecordsError {
        RecordsError::Missing(format!("{} {}", self.kind.noun(), self.subject()))
    }

    /// The activity of a change from what was before, if anything, to what is after.
    pub(crate) fn change(&self, before: Option<&Value>, after: Option<&Value>) -> Change {
        let [create, change, delete] = self.kind.actions();
        let (action, detail) = match (before, after) {
            (None, after) => (create, after.cloned().unwrap_or(Value::Null)),
            (Some(before), Some(after)) => (change, difference(before, after)),
            (Some(before), None) => (delete, before.clone()),
        };
        let detail = bounded(detail);
        Change { tenant: Some(self.tenant.clone()), action, subject: self.subject(), detail }
    }
}

/// The most bytes of the details of an activity.
const MAX_DETAIL_BYTES: usize = 8 << 10;

/// Details, without those that are too long to read.
fn bounded(detail: Value) -> Value {
    match detail.to_string().len() > MAX_DETAIL_BYTES {
        true => json!({ "omitted": "the details are too long" }),
        false => detail,
    }
}

/// A slot of a schedule that was taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SlotRecord {
    /// The identifier of the schedule.
    pub schedule: u64,
    /// The slot.
    pub slot: Timestamp,
    /// When it was taken.
    pub taken_at: Timestamp,
    /// What became of it.
    pub state: SlotState,
    /// The run that was started.
    pub run: Option<u64>,
    /// Whether somebody ran it by hand, whenever that was.
    pub by_hand: bool,
    /// More about it.
    pub note: String,
}

/// What became of a slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SlotState {
    /// It was taken; what it starts is not known to have begun.
    Taken,
    /// Its run was started.
    Started,
    /// What it does is done.
    Done,
    /// It could not be done.
    Failed,
    /// Nothing was active at its time.
    Missed,
}

impl SlotState {
    const ALL: [Self; 5] = [Self::Taken, Self::Started, Self::Done, Self::Failed, Self::Missed];

    /// Its name in the records and in the API.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Taken => "taken",
            Self::Started => "started",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Missed => "missed",
        }
    }

    pub(crate) fn read(name: &str) -> Result<Self, RecordsError> {
        let found = Self::ALL.into_iter().find(|state| state.name() == name);
        found.ok_or_else(|| RecordsError::Unreadable(format!("a slot has the state {name:?}")))
    }
}

/// A key that a run could not refill.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunFailure {
    /// Its number within the run.
    pub number: u32,
    /// The key.
    pub key: String,
    /// Why.
    pub reason: String,
}

/// The maximum length of a reason or a note, in characters.
pub(crate) const MAX_NOTE: usize = 500;

/// A text that fits its column.
pub(crate) fn short(text: &str) -> String {
    text.chars().take(MAX_NOTE).collect()
}
