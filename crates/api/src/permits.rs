//! Refill permits.

use serde::{Deserialize, Serialize};

/// Asks for a value, or for the right to refill it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AcquirePermit {
    /// The caller's display name; the token's note when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// How long the permit lasts, 0.01 to 300; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lease_seconds: Option<f64>,
    /// Whether a stale copy will do while another caller refills.
    #[serde(default)]
    pub stale: bool,
    /// Whether the permit is wanted although a fresh copy or a negative entry may be there; the
    /// copy will do while another caller refills.
    #[serde(default)]
    pub refresh: bool,
}

/// The right to refill one key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PermitGrant {
    /// The key.
    pub key: String,
    /// The permit's number: to be sent as `Verax-Permit` with the value.
    pub permit: u64,
    /// When it expires.
    pub ends_in_seconds: f64,
}

/// A live permit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PermitInUse {
    /// The key.
    pub key: String,
    /// Who holds it; `the service` where it reads the origin itself.
    pub holder: String,
    /// For how long.
    pub held_seconds: f64,
    /// When it expires.
    pub ends_in_seconds: f64,
    /// How many callers wait for the value.
    pub waiting: u64,
}

/// A refill that has ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RefillEvent {
    /// When.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: jiff::Timestamp,
    /// The key.
    pub key: String,
    /// Who held the permit.
    pub holder: String,
    /// `stored`, `not-stored`, `failed`, `voided` by an invalidation, or `expired`.
    pub outcome: String,
    /// How long it took.
    pub took_seconds: f64,
    /// How many callers waited for it.
    pub waiters: u64,
    /// How long the one that waited longest did.
    pub max_wait_seconds: f64,
}

/// The refill permits of a namespace.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Permits {
    /// Those that are live, oldest first.
    pub items: Vec<PermitInUse>,
    /// The latest refills, newest first.
    pub recent: Vec<RefillEvent>,
}
