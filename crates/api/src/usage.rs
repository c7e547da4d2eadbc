//! Usage over time.

use serde::{Deserialize, Serialize};

/// Usage over time, of a namespace, a tenant, or the whole service. Slots in which the service did
/// not run have no item.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct UsageHistory {
    /// The beginning of the first slot.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub from: jiff::Timestamp,
    /// The end of the range.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub to: jiff::Timestamp,
    /// The length of a slot: 10, 60, 900 or 86400.
    pub step_seconds: u64,
    /// The slots, oldest first.
    pub items: Vec<UsagePoint>,
}

/// The usage within one slot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct UsagePoint {
    /// The beginning of the slot.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: jiff::Timestamp,
    /// How much of it was counted.
    pub covered_seconds: f64,
    /// Entries at its end.
    pub entries: u64,
    /// Their memory at its end, including bookkeeping.
    pub bytes: u64,
    /// Reads.
    pub reads: u64,
    /// Hits, fresh or stale, including negative entries.
    pub hits: u64,
    /// Bytes of values that came from callers.
    pub received_bytes: u64,
    /// Bytes of values that were sent to callers.
    pub sent_bytes: u64,
    /// Reads of the origin, by the service or by callers with a permit.
    pub origin_reads: u64,
    /// The time that the hits would have taken at the origin, by its average latency.
    pub origin_saved_seconds: f64,
    /// Entries evicted.
    pub evictions: u64,
    /// Entries that expired and were freed.
    pub expirations: u64,
    /// Requests refused because of a quota.
    pub refusals: u64,
}
