//! Load runs in files.

use serde::{Deserialize, Serialize};

use super::run::LoadRun;

/// A load run in a file, to be read by another Verax.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ExportedRun {
    /// The version of the format: 1.
    pub verax_load_run: u32,
    /// The run, with all its seconds and their histograms.
    pub run: LoadRun,
}

impl ExportedRun {
    /// The version of the format.
    pub const VERSION: u32 = 1;
}
