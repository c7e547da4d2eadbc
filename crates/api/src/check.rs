//! Checks of stored values.

use serde::{Deserialize, Serialize};

/// Checks some of a namespace's stored values: against its content rule, or else against what their
/// media types declare.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CheckRequest {
    /// Only keys that start with this.
    #[serde(default)]
    pub prefix: String,
    /// The cursor of the previous step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// Whether damaged entries are removed; another value that is there by then stays.
    #[serde(default)]
    pub remove: bool,
}

/// A stored value that is damaged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DamagedValue {
    /// Its key.
    pub key: String,
    /// Why.
    pub reason: String,
    /// The line, from 1.
    pub line: usize,
    /// The column in bytes, from 1; 0 at the beginning of a line.
    pub column: usize,
    /// Its validator, as in `ETag`.
    pub entity_tag: String,
    /// Whether it was removed.
    pub removed: bool,
}

/// A step of a check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CheckStep {
    /// How many entries were checked.
    pub checked: u64,
    /// The damaged ones.
    pub damaged: Vec<DamagedValue>,
    /// Where the next step begins; absent after the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}
