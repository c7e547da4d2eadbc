//! Rate limits.

use serde::{Deserialize, Serialize};

/// Acquires from a rate limit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AcquireRate {
    /// How much to acquire; 1 when absent, 0 to look without acquiring.
    #[serde(default = "one")]
    pub acquire: u64,
    /// How much is replenished in each period.
    pub rate: u64,
    /// The period; 1 second when absent.
    #[serde(default = "second")]
    pub period_seconds: f64,
    /// The burst: the most that is available together; `rate` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub burst: Option<u64>,
}

const fn one() -> u64 {
    1
}

const fn second() -> f64 {
    1.0
}

/// What is left of a rate limit after an acquisition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RateLimit {
    /// How much of the burst is left.
    pub left: u64,
}
