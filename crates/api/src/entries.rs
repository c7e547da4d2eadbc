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
    /// The entries, in the order of their keys, or in the order that was asked for.
    pub items: Vec<EntrySummary>,
    /// Of a sample: how much of the namespace it saw.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<SampleSize>,
    /// Where the next page starts; absent on the last one, and for a sample.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}

/// How much of a namespace a sample saw.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SampleSize {
    /// How many entries it looked at.
    pub looked_at: u64,
    /// How many entries the namespace has.
    pub of: u64,
    /// Whether it looked at all of them.
    pub is_whole: bool,
}

/// What a removal of many entries removed, or would remove.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Removal {
    /// How many entries.
    pub entries: u64,
    /// Whether nothing was removed, because only the count was wanted.
    #[serde(default)]
    pub dry_run: bool,
}
