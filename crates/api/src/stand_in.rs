//! The faults of the demo's stand-in origin.

use serde::{Deserialize, Serialize};

/// The faults of the stand-in.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct StandIn {
    /// The latency added to every response, in milliseconds.
    pub extra_latency_ms: u64,
    /// More concurrent calls than this are refused with 503; `null` for no limit.
    pub concurrency_limit: Option<u64>,
    /// The share of calls that fail with 500, 0 to 1.
    pub error_rate: f64,
    /// Whether every call is refused with 503.
    pub outage: bool,
}

/// Changes faults of the stand-in; absent ones stay.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct StandInChange {
    /// The latency added to every response, in milliseconds; at most 60000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub extra_latency_ms: Option<u64>,
    /// More concurrent calls than this are refused with 503.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub concurrency_limit: Option<u64>,
    /// The share of calls that fail with 500, 0 to 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error_rate: Option<f64>,
    /// Whether every call is refused with 503.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub outage: Option<bool>,
}
