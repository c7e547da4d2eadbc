//! Comparisons of load runs.

use serde::{Deserialize, Serialize};
use verax_core::load::Difference;

/// A figure of a lane in two runs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LaneDifference {
    /// The lane.
    pub lane: String,
    /// The figure: `throughput`, `p50`, `p99` or `hit ratio`.
    pub figure: String,
    /// Its unit.
    pub unit: String,
    /// How it differs.
    #[serde(flatten)]
    pub difference: Difference,
}

/// Two runs compared, over their measured seconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RunComparison {
    /// The earlier run.
    pub before: u64,
    /// The later run.
    pub after: u64,
    /// The figures of the lanes that both have.
    pub differences: Vec<LaneDifference>,
}
