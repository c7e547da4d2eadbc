//! What can be typed about locks.

use std::time::Duration;

use clap::{Args, Subcommand};

use super::values::{NamespacePath, length_of_time};

/// A lock of a namespace.
#[derive(Debug, Args)]
pub(crate) struct LockName {
    /// The namespace, as TENANT/NAMESPACE
    pub(crate) place: NamespacePath,
    /// The lock's name
    pub(crate) name: String,
}

#[derive(Debug, Subcommand)]
pub(crate) enum LockCommand {
    /// Run a command while holding a lock
    ///
    /// The command finds the lock's name in VERAX_LOCK and the fencing token in
    /// VERAX_FENCING_TOKEN. The lease is renewed while it runs. When the lease is lost, the command
    /// is ended: first asked to, then killed. Its exit code is passed on.
    Hold {
        #[command(flatten)]
        lock: LockName,
        /// How long to wait for the lock
        #[arg(long, value_parser = length_of_time, default_value = "0s", value_name = "TIME")]
        wait: Duration,
        /// How long the lease lasts when it cannot be renewed
        #[arg(long, value_parser = length_of_time, default_value = "30s", value_name = "TIME")]
        lease: Duration,
        /// Who holds it, in words for people [default: user, host and process]
        #[arg(long, value_name = "TEXT")]
        owner: Option<String>,
        /// The command, behind --
        #[arg(last = true, required = true, value_name = "COMMAND")]
        command: Vec<String>,
    },
    /// Show who holds a lock and who waits for it
    Show {
        #[command(flatten)]
        lock: LockName,
    },
    /// List the locks of a namespace that are held, and what happened lately
    List {
        /// The namespace, as TENANT/NAMESPACE
        place: NamespacePath,
    },
    /// Release a lease, or force a lock open
    Release {
        #[command(flatten)]
        lock: LockName,
        /// The lease's fencing token
        #[arg(long, value_name = "N", required_unless_present = "force", conflicts_with = "force")]
        fencing_token: Option<u64>,
        /// End whatever lease there is; needs the right to manage, and is written down
        #[arg(long)]
        force: bool,
    },
}
