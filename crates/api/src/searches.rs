//! Searches for entries by what is in their JSON values.

use serde::{Deserialize, Serialize};

/// Searches some of a namespace's JSON values.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SearchRequest {
    /// A JSONPath query (RFC 9535); an entry is found if it selects anything in its value.
    pub query: String,
    /// Only keys that start with this.
    #[serde(default)]
    pub prefix: String,
    /// The cursor of the previous step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// The most entries to find in this step, 1 to 1000; 100 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u64>,
}

/// An entry that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FoundEntry {
    /// Its key.
    pub key: String,
    /// The size of its value.
    pub value_bytes: u64,
    /// How many parts of its value the query selects.
    pub count: u64,
    /// The first three of them as JSON text, each cut to 500 bytes.
    pub parts: Vec<String>,
}

/// A step of a search.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SearchStep {
    /// How many entries it looked at.
    pub looked_at: u64,
    /// How many of them are no JSON.
    pub not_json: u64,
    /// How many of them are too large to be searched (1 MiB).
    pub too_large: u64,
    /// The entries that were found.
    pub items: Vec<FoundEntry>,
    /// Where the next step begins; absent after the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}
