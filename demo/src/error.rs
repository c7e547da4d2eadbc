//! Errors of setting up the demo.

use verax_client::ClientError;

/// Why the demo cannot be set up.
#[derive(Debug, thiserror::Error)]
pub enum DemoError {
    /// Its data cannot be loaded.
    #[error("the ferry data cannot be loaded into MariaDB: {0}")]
    Data(String),
    /// The stand-in origin cannot listen.
    #[error(
        "the stand-in origin cannot listen on {address}: {source}; choose another with --origin"
    )]
    Listen {
        /// The address.
        address: std::net::SocketAddr,
        /// The system's error.
        source: std::io::Error,
    },
    /// Verax refused a request of the demo.
    #[error("the demo's tenants cannot be set up: {0}")]
    Verax(#[from] ClientError),
    /// The shipped plans are invalid.
    #[error("the shipped warm plans cannot be read: {0}")]
    Plans(String),
    /// A shipped profile is invalid.
    #[error("the shipped load profile {name} cannot be read: {reason}")]
    Profile {
        /// Its file's name.
        name: &'static str,
        /// What is wrong with it.
        reason: String,
    },
}

impl From<diesel::result::Error> for DemoError {
    fn from(error: diesel::result::Error) -> Self {
        Self::Data(error.to_string())
    }
}
