//! Locks.

use serde::{Deserialize, Serialize};

/// Acquires a lock.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AcquireLock {
    /// The caller's display name; the token's note when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// How long the lease lasts unless it is renewed, 0.1 to 86,400; 30 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lease_seconds: Option<f64>,
}

/// A lease that was granted or renewed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LockLease {
    /// The lock.
    pub name: String,
    /// The lease's fencing token, larger than all before it. The protected resource should refuse
    /// tokens smaller than the largest it has seen.
    pub fencing_token: u64,
    /// When it ends unless it is renewed.
    pub ends_in_seconds: f64,
}

/// Renews a lease, counted from now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RenewLock {
    /// The lease's fencing token.
    pub fencing_token: u64,
    /// How long it lasts from now on, 0.1 to 86,400.
    pub lease_seconds: f64,
}

/// Who holds a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LockHolder {
    /// Its display name.
    pub owner: String,
    /// The lease's fencing token.
    pub fencing_token: u64,
    /// How long it has held the lock.
    pub held_seconds: f64,
    /// When the lease ends unless it is renewed.
    pub ends_in_seconds: f64,
}

/// A caller that is queued for a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct QueuedCaller {
    /// Its display name.
    pub owner: String,
    /// How long it has waited.
    pub waiting_seconds: f64,
    /// When its wait times out.
    pub times_out_in_seconds: f64,
}

/// The state of a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Lock {
    /// Its name.
    pub name: String,
    /// Who holds it; `null` when it is free.
    pub holder: Option<LockHolder>,
    /// The queue, first come, first served; the first hundred callers.
    pub queue: Vec<QueuedCaller>,
    /// How many callers are queued.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required))]
    pub queued: u64,
}

/// A lock event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LockEvent {
    /// When.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: jiff::Timestamp,
    /// The lock.
    pub name: String,
    /// `granted`, `released`, `expired`, `forced`, `disconnected`, `withdrawn`, or `timed-out` for
    /// a wait.
    pub kind: String,
    /// The owner of the lease or wait.
    pub owner: String,
    /// The lease's fencing token.
    pub fencing_token: Option<u64>,
    /// How long the caller waited for or held the lock.
    pub lasted_seconds: f64,
}

/// The locks of a namespace.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Locks {
    /// The held locks, by name.
    pub items: Vec<Lock>,
    /// Recent events, newest first.
    pub recent: Vec<LockEvent>,
}
