//! Refill permits.

use serde::{Deserialize, Serialize};

/// Looks an entry up, or acquires the permit to refill it.
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
    /// Whether to accept a stale copy while another caller refills.
    #[serde(default)]
    pub stale: bool,
    /// Whether to acquire the permit although a fresh copy or a negative entry is there; the copy
    /// is returned while another caller refills.
    #[serde(default)]
    pub refresh: bool,
}

/// Waits for a key that a warm run wants to be refilled.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AwaitRefill {
    /// The caller's display name; the token's note when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// How long the permit lasts, 0.01 to 300; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lease_seconds: Option<f64>,
}

/// The right to refill one key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PermitGrant {
    /// The key.
    pub key: String,
    /// The permit's number, to send as `Verax-Permit` with the value.
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
    /// Its holder; `the service` when the service reads the origin itself.
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
    /// The longest wait.
    pub max_wait_seconds: f64,
}

/// The refill permits of a namespace.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Permits {
    /// The live permits, oldest first.
    pub items: Vec<PermitInUse>,
    /// The latest refills, newest first.
    pub recent: Vec<RefillEvent>,
    /// How many requests wait for a key to refill, or have one.
    #[serde(default)]
    pub refillers: u64,
}
