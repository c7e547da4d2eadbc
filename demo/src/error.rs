//! What can go wrong while the demo is set up.

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
        /// What the system said.
        source: std::io::Error,
    },
    /// Verax refused what the demo asked of it.
    #[error("the demo's tenants cannot be set up: {0}")]
    Verax(#[from] ClientError),
    /// A shipped profile is wrong.
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
