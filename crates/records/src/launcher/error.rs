//! Why a private MariaDB cannot be started.

use std::path::PathBuf;

/// How a private MariaDB cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum LaunchError {
    /// A program is missing.
    #[error(
        "{program} is not installed or cannot be found: install Debian's package {package}, or set records.url to a running MariaDB"
    )]
    NotInstalled {
        /// The program.
        program: String,
        /// The package that brings it.
        package: &'static str,
    },
    /// Verax runs as root, and there is no other user for the server.
    #[error(
        "mariadbd is not run as root, and there is no user {0} to run it as: install Debian's package mariadb-server, which creates that user, or run Verax as an unprivileged user"
    )]
    NoUser(&'static str),
    /// Verax runs as root, and the server's user cannot get to its directory.
    #[error(
        "mariadbd runs as the user mysql, which cannot pass through {}, and the directory cannot be mounted for it elsewhere: choose a data directory elsewhere with --data-dir, or let others pass (chmod o+x {})", barrier.display(), barrier.display()
    )]
    OutOfReach {
        /// The server's directory.
        directory: PathBuf,
        /// The directory on the way that keeps the user out.
        barrier: PathBuf,
    },
    /// The file system refuses.
    #[error("{what} {}: {source}", path.display())]
    Files {
        /// What was tried.
        what: &'static str,
        /// On which file or directory.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// A program failed.
    #[error("{program} failed: {reason}; see its log in {}", log.display())]
    Failed {
        /// The program.
        program: &'static str,
        /// How it failed.
        reason: String,
        /// Where it wrote.
        log: PathBuf,
    },
}
