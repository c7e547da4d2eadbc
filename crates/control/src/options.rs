//! How the control plane is set up.

use std::path::PathBuf;

use verax_api::LoadProfileSpec;
use verax_records::Node;

/// How the control plane is set up.
#[derive(Debug, Clone, Default)]
pub struct ControlOptions {
    /// Where a snapshot of the records is kept, for a start while MariaDB is away.
    pub records_snapshot: Option<PathBuf>,
    /// This node, where other Verax may use the same records; `None` where none ever does.
    pub node: Option<Node>,
    /// Where the latest epoch of fencing tokens is kept, in case the records forget it.
    pub epoch_file: Option<PathBuf>,
    /// Where files with the secrets of origins lie; without it they come from the environment
    /// alone.
    pub credentials_dir: Option<PathBuf>,
    /// The load profiles to offer.
    pub profiles: Vec<LoadProfileSpec>,
}
