//! Entries of listings.

use serde::{Deserialize, Serialize};

/// An entry, without its value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct EntrySummary {
    /// Its key.
    pub key: String,
    /// The size of its value.
    pub value_bytes: u64,
    /// Its memory, including bookkeeping.
    pub memory_bytes: u64,
    /// Its media type.
    pub media_type: String,
    /// Its validator, as in `ETag`.
    pub entity_tag: String,
    /// The revision of its value, as in `Verax-Revision`: larger for every later storing of the
    /// key.
    pub revision: u64,
    /// Its tags.
    pub tags: Vec<String>,
    /// How long ago it was stored.
    pub age_seconds: f64,
    /// The time left until it is stale; negative when it is stale.
    pub time_left_seconds: f64,
}

/// A page of a listing.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct EntryPage {
    /// The entries, in the order of their keys.
    pub items: Vec<EntrySummary>,
    /// Where the next page starts; absent on the last one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}
