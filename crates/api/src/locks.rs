//! Locks.

use serde::{Deserialize, Serialize};

/// Asks for a lock.
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

/// A lease that was given or renewed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LockLease {
    /// The lock.
    pub name: String,
    /// The lease's fencing token, larger than all before it. What the lock protects should refuse
    /// every token that is smaller than one that it has seen.
    pub fencing_token: u64,
    /// When it ends unless it is renewed.
    pub ends_in_seconds: f64,
}

/// Asks that a lease last longer, counted from now.
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
    /// Since when it holds the lock.
    pub held_seconds: f64,
    /// When the lease ends unless it is renewed.
    pub ends_in_seconds: f64,
}

/// Who waits for a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct QueuedCaller {
    /// Its display name.
    pub owner: String,
    /// When it began to wait.
    pub waiting_seconds: f64,
    /// When it gives up.
    pub times_out_in_seconds: f64,
}

/// A lock as it stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Lock {
    /// Its name.
    pub name: String,
    /// Who holds it; `null` when it is free.
    pub holder: Option<LockHolder>,
    /// Who waits for it, first come, first served; the first hundred.
    pub queue: Vec<QueuedCaller>,
    /// How many callers are queued.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required))]
    pub queued: u64,
}

/// Something that happened to a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LockEvent {
    /// When.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: jiff::Timestamp,
    /// The lock.
    pub name: String,
    /// `granted`, `released`, `expired`, `forced`, `disconnected`, or `timed-out` for a wait in
    /// vain.
    pub kind: String,
    /// Whose lease or wait it was.
    pub owner: String,
    /// The lease's fencing token.
    pub fencing_token: Option<u64>,
    /// How long it had been waited for, or held.
    pub lasted_seconds: f64,
}

/// The locks of a namespace.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Locks {
    /// Those that are held, by name.
    pub items: Vec<Lock>,
    /// What happened lately, newest first.
    pub recent: Vec<LockEvent>,
}
