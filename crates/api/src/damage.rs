//! Reports of values that a client cannot decode.

use serde::{Deserialize, Serialize};

/// Reports that the value with this entity tag cannot be decoded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ReportDamage {
    /// The key.
    pub key: String,
    /// The value's entity tag, as `ETag` gave it.
    pub entity_tag: String,
    /// Why it cannot be decoded; the first 200 bytes are kept.
    #[serde(default)]
    pub reason: String,
}

/// What became of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DamageOutcome {
    /// Whether the entry was removed. It stays if another value is there by now, or if it was
    /// removed three times within a minute.
    pub removed: bool,
}

/// A report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DamageReport {
    /// When it came.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: jiff::Timestamp,
    /// The key.
    pub key: String,
    /// Why, as the client says.
    pub reason: String,
    /// Who reported it.
    pub reporter: String,
    /// Whether the entry was removed.
    pub removed: bool,
}

/// The latest reports of a namespace.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DamageReports {
    /// How many there were since the service started.
    pub reports: u64,
    /// How many entries they removed.
    pub removed: u64,
    /// The latest, newest first.
    pub items: Vec<DamageReport>,
}
