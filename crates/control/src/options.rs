//! Options of the control plane.

use std::path::PathBuf;

use verax_api::LoadProfileSpec;
use verax_records::Node;

/// Options of the control plane.
#[derive(Debug, Clone, Default)]
pub struct ControlOptions {
    /// The snapshot of the records, for a start while MariaDB is away.
    pub records_snapshot: Option<PathBuf>,
    /// This node, if others may use the same records; `None` for a single node.
    pub node: Option<Node>,
    /// The file with the latest epoch of fencing tokens, in case the records lose it.
    pub epoch_file: Option<PathBuf>,
    /// The directory of files with origins' secrets; without it, secrets come from the environment
    /// only.
    pub credentials_dir: Option<PathBuf>,
    /// The load profiles to offer.
    pub profiles: Vec<LoadProfileSpec>,
    /// The hosts other than this machine that load runs may read.
    pub load_hosts: Vec<String>,
}
