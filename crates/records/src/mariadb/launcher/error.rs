//! Errors of starting a private MariaDB.

use std::path::PathBuf;

/// Why a private MariaDB cannot be started.
#[derive(Debug, thiserror::Error)]
pub enum LaunchError {
    /// A program is missing.
    #[error(
        "{program} is not installed or cannot be found: install Debian's package {package}, or set records.url to a running MariaDB"
    )]
    NotInstalled {
        /// The program.
        program: String,
        /// The package that contains it.
        package: &'static str,
    },
    /// Verax runs as root, and there is no other user for the server.
    #[error(
        "mariadbd is not run as root, and there is no user {0} to run it as: install Debian's package mariadb-server, which creates that user, or run Verax as an unprivileged user"
    )]
    NoUser(&'static str),
    /// Verax runs as root, and the server's user cannot reach its directory.
    #[error(
        "mariadbd runs as the user mysql, which cannot pass through {}, and the directory cannot be mounted for it elsewhere: choose a data directory elsewhere with --data-dir, or let others pass (chmod o+x {})", barrier.display(), barrier.display()
    )]
    OutOfReach {
        /// The server's directory.
        directory: PathBuf,
        /// The directory on the path that blocks the user.
        barrier: PathBuf,
    },
    /// A file operation failed.
    #[error("{what} {}: {source}", path.display())]
    Files {
        /// The operation.
        what: &'static str,
        /// The file or directory.
        path: PathBuf,
        /// The system's error.
        source: std::io::Error,
    },
    /// A program failed.
    #[error("{program} failed: {reason}; see its log in {}", log.display())]
    Failed {
        /// The program.
        program: &'static str,
        /// Its error.
        reason: String,
        /// Its log.
        log: PathBuf,
    },
}
