//! Warm runs.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Where the values of a variable come from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum WarmValues {
    /// These values.
    List(Vec<String>),
    /// A JSON array of strings that the origin answers at this URL reference, such as `/harbors`.
    Listing(String),
}

/// Starts a warm run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WarmRequest {
    /// The pattern of the keys; the namespace's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    /// The values of each variable of the pattern; every combination is one key.
    #[serde(default)]
    pub values: BTreeMap<String, WarmValues>,
    /// The most concurrent refills, 1 to 256; 4 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub concurrency: Option<u32>,
}

/// A key that could not be refilled.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WarmFailure {
    /// The key.
    pub key: String,
    /// Why.
    pub reason: String,
}

/// A warm run, running or ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WarmRun {
    /// Its identifier.
    pub id: u64,
    /// The tenant of the namespace.
    pub tenant: String,
    /// The namespace it fills.
    pub namespace: String,
    /// `running`, `done`, `stopped`, `failed` or `interrupted`: the service stopped before the run
    /// ended.
    pub state: String,
    /// When it started.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub started_at: Timestamp,
    /// How long it ran so far.
    pub elapsed_ms: f64,
    /// How many keys it refills.
    pub keys: u64,
    /// How many are stored.
    pub stored: u64,
    /// How many could not be refilled or stored.
    pub failed: u64,
    /// Refills per second so far.
    pub per_second: f64,
    /// The first failures, at most 20.
    pub failures: Vec<WarmFailure>,
}
