//! Usage over time.

use verax_core::Timestamp;
use verax_core::usage::{UsageFigures, UsageStep};

/// What one process counted for a namespace within a slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UsageSample {
    /// The step.
    pub step: UsageStep,
    /// The beginning of the slot.
    pub at: Timestamp,
    /// The tenant's identifier.
    pub tenant_id: u64,
    /// The namespace's identifier.
    pub namespace_id: u64,
    /// How much of the slot it covers, in milliseconds.
    pub covered_ms: u64,
    /// What it used.
    pub figures: UsageFigures,
}

/// Whose usage is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UsageOf {
    /// All namespaces together.
    All,
    /// Those of a tenant, by its identifier.
    Tenant(u64),
    /// One namespace, by its identifier.
    Namespace(u64),
}

/// A query of usage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UsageQuery {
    /// Whose.
    pub of: UsageOf,
    /// The step.
    pub step: UsageStep,
    /// From which slot on.
    pub from: Timestamp,
    /// Until before which time.
    pub to: Timestamp,
}

/// The usage of one slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UsagePoint {
    /// The beginning of the slot.
    pub at: Timestamp,
    /// How much of the slot is covered, in milliseconds.
    pub covered_ms: u64,
    /// What was used.
    pub figures: UsageFigures,
}
