//! Who waits for what.

use serde::{Deserialize, Serialize};

use crate::{Lock, LockEvent, Origin, PermitInUse, RefillEvent};

/// Who waits for what, in all namespaces that the caller may read.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Waiting {
    /// Live refill permits, oldest first.
    pub permits: Vec<WaitingPermit>,
    /// Held locks, longest-held first.
    pub locks: Vec<WaitingLock>,
    /// The latest refills, newest first.
    pub refills: Vec<WaitingRefill>,
    /// Recent lock events, newest first.
    pub lock_events: Vec<WaitingLockEvent>,
    /// The origins of tenants that the caller manages.
    pub origins: Vec<Origin>,
}

/// A permit and its namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WaitingPermit {
    /// The namespace, as TENANT/NAMESPACE.
    pub namespace: String,
    /// The permit.
    pub permit: PermitInUse,
}

/// A lock and its namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WaitingLock {
    /// The namespace, as TENANT/NAMESPACE.
    pub namespace: String,
    /// The lock.
    pub lock: Lock,
}

/// A refill and its namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WaitingRefill {
    /// The namespace, as TENANT/NAMESPACE.
    pub namespace: String,
    /// The refill.
    pub refill: RefillEvent,
}

/// A lock event and its namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct WaitingLockEvent {
    /// The namespace, as TENANT/NAMESPACE.
    pub namespace: String,
    /// The event.
    pub event: LockEvent,
}
