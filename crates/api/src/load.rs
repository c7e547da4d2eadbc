//! Load profiles and load runs.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use verax_core::load::{Comparison, Doubt, Lane, LaneFigures, Popularity};

use crate::warm::WarmValues;

fn default_clients() -> u32 {
    4
}

fn default_duration() -> f64 {
    10.0
}

fn default_seed() -> u64 {
    1
}

/// A load profile, as in a file or a request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LoadProfileSpec {
    /// Its name.
    pub name: String,
    /// What it is about, in one line.
    #[serde(default)]
    pub title: String,
    /// The namespace both lanes read, as `tenant/namespace`; it must have an origin.
    pub namespace: String,
    /// The pattern of the keys; the namespace's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    /// The values of each variable of the pattern; every combination is one key, most popular
    /// first.
    #[serde(default)]
    pub values: BTreeMap<String, WarmValues>,
    /// Concurrent clients of each lane.
    #[serde(default = "default_clients")]
    pub clients: u32,
    /// The measured time.
    #[serde(default = "default_duration")]
    pub duration_seconds: f64,
    /// How long the lanes run before that.
    #[serde(default)]
    pub warm_up_seconds: f64,
    /// How often each key is read: `"uniform"`, or `{ "zipf": EXPONENT }`.
    #[serde(default)]
    pub popularity: Popularity,
    /// The seed of the key sequence.
    #[serde(default = "default_seed")]
    pub seed: u64,
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
}

/// One second of a load run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadTick {
    /// Seconds since the run started, at this second's end.
    pub at_seconds: f64,
    /// Whether this second belongs to the warm-up, which the report excludes.
    pub warm_up: bool,
    /// The cached lane within this second.
    pub cached: LaneFigures,
    /// The direct lane within this second.
    pub direct: LaneFigures,
}

/// The progress of a load run, sent every second.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadProgress {
    /// The second that just ended.
    pub tick: LoadTick,
    /// Both lanes since the warm-up ended.
    pub so_far: LoadReport,
}

/// What a load run measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadReport {
    /// Seconds measured, without the warm-up.
    pub measured_seconds: f64,
    /// How many keys both lanes read.
    pub keys: u64,
    /// The cached lane.
    pub cached: LaneFigures,
    /// The direct lane.
    pub direct: LaneFigures,
    /// The cached lane compared with the direct one.
    pub comparison: Comparison,
    /// Failed reads by lane and message, the most frequent first, at most 5 of each lane.
    #[serde(default)]
    pub errors: Vec<ReadErrors>,
    /// Why the lanes cannot be compared; empty if they can.
    #[serde(default)]
    pub doubts: Vec<LoadDoubt>,
}

/// Why the figures of a load run say little.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LoadDoubt {
    /// `errors`, `nothing-read`, `cold`, `disturbed` or `stopped`.
    pub kind: String,
    /// What is wrong, and what to do.
    pub detail: String,
}

impl From<&Doubt> for LoadDoubt {
    fn from(doubt: &Doubt) -> Self {
        Self { kind: doubt.name().to_owned(), detail: doubt.to_string() }
    }
}

/// Failed reads of one lane that ended with one message.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ReadErrors {
    /// The lane.
    pub lane: Lane,
    /// Why they failed.
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
    /// Second by second.
    pub ticks: Vec<LoadTick>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_profile_gets_defaults_and_unknown_members_are_refused() {
        let short = r#"{ "name": "rush", "namespace": "ferrydesk/boards" }"#;
        let spec: LoadProfileSpec = serde_json::from_str(short).unwrap();
        assert_eq!((spec.clients, spec.duration_seconds), (4, 10.0));
        let error = serde_json::from_str::<LoadProfileSpec>(
            r#"{ "name": "rush", "namespace": "a/b", "users": 3 }"#,
        );
        assert!(error.unwrap_err().to_string().contains("users"));
    }

    #[test]
    fn popularity_reads_as_documented() {
        let read = |json| serde_json::from_str::<Popularity>(json).unwrap();
        assert_eq!(read(r#""uniform""#), Popularity::Uniform);
        assert_eq!(read(r#"{"zipf":1.1}"#), Popularity::Zipf(1.1));
    }
}
