//! What more memory would buy, and how to divide it.

use serde::{Deserialize, Serialize};

/// What is expected of a namespace with other amounts of memory.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MemoryCurve {
    /// Reads of all keys per second, over about the last five minutes.
    pub reads_per_second: f64,
    /// The share of reads that the cache served over that time, 0 to 1; absent without reads.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured_hit_ratio: Option<f64>,
    /// The memory of an entry on average, bookkeeping included; absent without entries.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entry_bytes: Option<f64>,
    /// With the memory that it has now; absent while too little was observed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<MemoryPoint>,
    /// With other amounts, by memory; empty while too little was observed. There is nothing to gain
    /// beyond the last one, as far as is known.
    pub points: Vec<MemoryPoint>,
    /// What it says, in sentences.
    pub remarks: Vec<String>,
    /// For how long was observed.
    pub observed_seconds: f64,
    /// How many keys are followed.
    pub sampled_keys: u64,
    /// How many reads of them were.
    pub sampled_reads: u64,
    /// Which fraction of all keys is sampled, 0 to 1.
    pub sampled_fraction: f64,
    /// How many of the hottest keys are known by their rate.
    pub known_keys: u64,
    /// The share of all reads that is theirs, 0 to 1.
    pub known_share: f64,
}

/// What is expected with an amount of memory.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MemoryPoint {
    /// The memory, bookkeeping included.
    pub bytes: u64,
    /// How many entries it holds.
    pub entries: u64,
    /// The share of reads that are hits, 0 to 1.
    pub hit_ratio: f64,
    /// By how much that may be wrong.
    pub error: f64,
    /// Reads that miss, per second.
    pub misses_per_second: f64,
}

/// How memory is best divided among namespaces.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct MemoryDivision {
    /// The memory that is divided: the limit of the service, or for callers who do not see all of
    /// it, what their namespaces have now.
    pub bytes: u64,
    /// The share of all reads that are hits as memory is divided now, 0 to 1.
    pub hit_ratio_now: f64,
    /// The share of all reads that would be hits.
    pub hit_ratio_then: f64,
    /// Reads that miss now, per second.
    pub misses_per_second_now: f64,
    /// Reads that would miss, per second.
    pub misses_per_second_then: f64,
    /// The namespaces, those that would gain most memory first.
    pub namespaces: Vec<DividedNamespace>,
    /// What it says, in sentences.
    pub remarks: Vec<String>,
}

/// What a division gives a namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DividedNamespace {
    /// Its tenant.
    pub tenant: String,
    /// Its name.
    pub namespace: String,
    /// Its memory now.
    pub bytes_now: u64,
    /// The memory that it would have.
    pub bytes_then: u64,
    /// The memory that it is guaranteed now.
    pub reserve_bytes: u64,
    /// Whether enough was observed; a namespace that is not known keeps what it has.
    pub is_known: bool,
    /// Reads per second.
    pub reads_per_second: f64,
    /// The expected hit ratio now, 0 to 1; absent if not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hit_ratio_now: Option<f64>,
    /// The expected hit ratio then; absent if not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hit_ratio_then: Option<f64>,
}
