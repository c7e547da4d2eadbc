//! Advice on lifetimes.

use serde::{Deserialize, Serialize};

/// What other max-ages would mean for a namespace, from what was observed of its reads and refills.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LifetimeAdvice {
    /// The namespace's max-age now.
    pub max_age_seconds: f64,
    /// The suggested one; absent while too little was observed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suggested_max_age_seconds: Option<f64>,
    /// Why, in sentences.
    pub reasons: Vec<String>,
    /// For how long was observed.
    pub observed_seconds: f64,
    /// How many reads were followed.
    pub sampled_reads: u64,
    /// Of how many keys.
    pub sampled_keys: u64,
    /// Which fraction of all keys that is, 0 to 1.
    pub sampled_fraction: f64,
    /// How many refills were compared with the value before.
    pub compared_refills: u64,
    /// How many of them brought another value.
    pub changed_refills: u64,
    /// The mean time between changes of a value; absent if none was seen, or too little.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change_interval_seconds: Option<f64>,
    /// The mean latency of an origin read; absent without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin_ms: Option<f64>,
    /// The expectations, by max-age.
    pub points: Vec<AdvicePoint>,
}

/// The expectation for one max-age.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct AdvicePoint {
    /// The max-age.
    pub max_age_seconds: f64,
    /// Reads of the origin in a second.
    pub origin_reads_per_second: f64,
    /// The share of reads that are hits, 0 to 1.
    pub hit_ratio: f64,
    /// The mean age of what readers see.
    pub mean_age_seconds: f64,
    /// The share of reads that see a value that has changed since; absent if too few refills were
    /// compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outdated_share: Option<f64>,
}
