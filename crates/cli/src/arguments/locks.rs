//! Arguments about locks.

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
    /// The command gets the lock's name in VERAX_LOCK and the fencing token in VERAX_FENCING_TOKEN.
    /// The lease is renewed while it runs. When the lease is lost, the command is terminated, then
    /// killed. Its exit code is passed on.
    Hold {
        #[command(flatten)]
        lock: LockName,
        /// How long to wait for the lock
        #[arg(long, value_parser = length_of_time, default_value = "0s", value_name = "TIME")]
        wait: Duration,
        /// How long the lease lasts without renewal
        #[arg(long, value_parser = length_of_time, default_value = "30s", value_name = "TIME")]
        lease: Duration,
        /// The holder's display name [default: user, host and process]
        #[arg(long, value_name = "TEXT")]
        owner: Option<String>,
        /// The command, behind --
        #[arg(last = true, required = true, value_name = "COMMAND")]
        command: Vec<String>,
    },
    /// Show a lock's holder and its queue
    Show {
        #[command(flatten)]
        lock: LockName,
    },
    /// List a namespace's held locks and recent lock events
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
        /// End the current lease, whoever holds it; needs the right to manage, and is recorded
        #[arg(long)]
        force: bool,
    },
}
