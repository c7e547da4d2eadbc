//! The keys that are read most.

use serde::{Deserialize, Serialize};

/// The keys of a namespace that are read most.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HotKeys {
    /// Reads of all keys per second.
    pub reads_per_second: f64,
    /// For how long reads were observed.
    pub observed_seconds: f64,
    /// After this time, a read counts half.
    pub half_life_seconds: f64,
    /// The keys, hottest first.
    pub keys: Vec<HotKey>,
}

/// A key that is read much.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HotKey {
    /// The key.
    pub key: String,
    /// Reads per second.
    pub reads_per_second: f64,
    /// By how much that may be too high, apart from sampling.
    pub may_be_over_by: f64,
    /// Its share of all reads of the namespace, 0 to 1.
    pub share: f64,
    /// The share of its reads that were hits, 0 to 1.
    pub hit_ratio: f64,
    /// How long its last refill took; absent if none is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refill_ms: Option<f64>,
    /// How many readers would wait for its refill if it went cold: reads per second times the time
    /// of a refill. Without Verax, each of them would be a call of the origin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waiting_if_cold: Option<f64>,
    /// Its state: `fresh`, `stale`, `negative` or `missing`.
    pub state: String,
    /// The size of its value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value_bytes: Option<u64>,
}
