//! Workers that have joined from other machines.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The protocol that the connection of a worker changes to (RFC 9110, section 7.8).
pub const LOAD_WORKER_PROTOCOL: &str = "verax-load-worker";

/// A worker that has joined, to generate the load of runs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct JoinedWorker {
    /// Its number.
    pub id: u64,
    /// What it is named, usually after its machine.
    pub name: String,
    /// When it joined. It joins again after each run.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub joined_at: Timestamp,
    /// Whether a run has it.
    pub is_busy: bool,
}
