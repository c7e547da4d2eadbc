//! Counters.

use serde::{Deserialize, Serialize};

/// Adds to a counter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AddRequest {
    /// What to add; negative to subtract.
    pub add: i64,
    /// The lifetime of a counter that this creates, as in the `Cache-Control` field; the
    /// namespace's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_control: Option<String>,
}

/// A counter after an addition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Counter {
    /// Its number now.
    pub value: i64,
    /// Whether this addition created it.
    pub created: bool,
}
