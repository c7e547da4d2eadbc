//! What the service is doing right now.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Quantiles of a latency over the sample's window; absent without reads in it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Latency {
    /// How many reads.
    pub samples: u64,
    /// Median.
    pub p50_ms: f64,
    /// 99th percentile.
    pub p99_ms: f64,
}

/// One namespace within a sample. Rates and latencies are of the sample's window.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct NamespaceSample {
    /// The tenant.
    pub tenant: String,
    /// The namespace.
    pub name: String,
    /// Reads per second.
    pub reads_per_second: f64,
    /// The hit ratio, 0 to 1, including stale and negative hits; absent without reads.
    pub hit_ratio: Option<f64>,
    /// Hits within the window.
    pub hits: u64,
    /// Reads within the window.
    pub reads: u64,
    /// Reads of the origin per second.
    pub origin_calls_per_second: f64,
    /// Reads of the origin that failed within the window.
    pub origin_errors: u64,
    /// Service-side latency of hits.
    pub hit_latency: Option<Latency>,
    /// Latency of reads of the origin.
    pub origin_latency: Option<Latency>,
    /// Entries now.
    pub entries: u64,
    /// Memory now.
    pub bytes: u64,
    /// How much longer reads go to the origin as if there were no cache, if they do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bypass_seconds_left: Option<f64>,
}

/// What the service did within one window.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LiveSample {
    /// The window's end.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// The window's length.
    pub window_seconds: f64,
    /// The uptime of the service.
    pub uptime_seconds: f64,
    /// Memory of entries now; absent for callers that may not see the whole service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_bytes: Option<u64>,
    /// The limit on it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_limit_bytes: Option<u64>,
    /// Entries evicted within the window.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub evictions: Option<u64>,
    /// Whether the records in MariaDB answer.
    pub records_available: bool,
    /// `active`, or `standby`: another node serves, and this one is ready to take over.
    pub role: String,
    /// How many standby nodes could take over.
    pub standbys: u32,
    /// How many nodes are known and have no connection to MariaDB.
    pub away: u32,
    /// The namespaces that the caller may see, by tenant and name.
    pub namespaces: Vec<NamespaceSample>,
    /// The sum of all other namespaces, when there are more than two hundred; those above are then
    /// the busiest and the largest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub others: Option<NamespaceSample>,
    /// Latency of hits, all namespaces together.
    pub hit_latency: Option<Latency>,
    /// Latency of origin reads, all namespaces together.
    pub origin_latency: Option<Latency>,
}

/// One of the nodes that use the same records.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Node {
    /// Its identity, which belongs to its data directory.
    pub id: String,
    /// `active`: it serves; `standby`: it is ready to take over; `away`: it has no connection to
    /// MariaDB.
    pub state: String,
    /// Whether it is the node that answers.
    pub this: bool,
    /// Where clients reach it over HTTP; empty when unknown.
    pub http: String,
    /// Where clients reach it over the wire; empty when unknown.
    pub wire: String,
    /// Its version.
    pub version: String,
}

/// Whether the service can serve, and what is degraded.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Ready {
    /// Whether entries are served.
    pub ready: bool,
    /// `active`, or `standby`: another node serves, and this one is ready to take over.
    #[serde(default)]
    pub role: String,
    /// `available`, or `unavailable`: entries are served, but nothing can be created or changed.
    pub records: String,
    /// `ok`, or `full`: the disk of the data directory is almost full, so changes will fail.
    #[serde(default)]
    pub disk: String,
    /// The version of the service.
    pub version: String,
}
