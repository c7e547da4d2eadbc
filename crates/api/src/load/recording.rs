//! Recordings of a namespace's traffic.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What to record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RecordTraffic {
    /// The namespace, as `tenant/namespace`.
    pub namespace: String,
    /// For how long.
    pub seconds: f64,
    /// Whether the keys are kept as hashes, which cannot be turned back into keys.
    #[serde(default)]
    pub hash_keys: bool,
}

/// Which key of a namespace was read when, for a while.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TrafficRecording {
    /// Its identifier.
    pub id: u64,
    /// The namespace, as `tenant/namespace`.
    pub namespace: String,
    /// `running`, `done`, `stopped`, `failed` or `interrupted`.
    pub state: String,
    /// When it started.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub started_at: Timestamp,
    /// Why it failed, or ended before its time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// For how long it was to record.
    pub asked_seconds: f64,
    /// For how long it has recorded.
    pub seconds: f64,
    /// Whether the keys are kept as hashes.
    pub hash_keys: bool,
    /// The reads that it has.
    pub reads: u64,
    /// The distinct keys.
    pub keys: u64,
    /// The reads that came too fast to be recorded.
    pub missed: u64,
    /// How many parts it is kept in.
    pub part_count: u64,
    /// The parts that are not recorded yet, or all.
    #[serde(skip)]
    pub parts: Vec<RecordingPart>,
}

/// A part of a recording, as it is kept: keys that were read for the first time, each with the next
/// index, and the reads after those of the part before.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct RecordingPart {
    /// The keys, or their hashes.
    pub keys: Vec<String>,
    /// The reads, packed.
    pub reads: String,
}

impl TrafficRecording {
    /// The recording without its parts.
    pub fn without_parts(&self) -> Self {
        Self {
            id: self.id,
            namespace: self.namespace.clone(),
            state: self.state.clone(),
            started_at: self.started_at,
            reason: self.reason.clone(),
            asked_seconds: self.asked_seconds,
            seconds: self.seconds,
            hash_keys: self.hash_keys,
            reads: self.reads,
            keys: self.keys,
            missed: self.missed,
            part_count: self.part_count,
            parts: Vec::new(),
        }
    }
}
