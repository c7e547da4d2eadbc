//! A private MariaDB for a Verax that was not given one.
//!
//! [`PrivateServer`] initialises a data directory, starts Debian's `mariadbd`, keeps it running,
//! and stops it. The server never runs as root, has one account with a new password at each start,
//! and can read and write no files for its clients. It listens on a socket that its own directory
//! protects; on loopback only where that is asked for.
//!
//! It leaves no process behind: a clean stop waits for it, the death of Verax by any signal ends it
//! (parent-death signal, prctl(2)), and a start first ends whatever an earlier one left.

mod error;
mod initialise;
mod keeper;
mod leftover;
mod server;
mod user;

pub use error::LaunchError;
pub use server::{Listen, PrivateServer, PrivateServerOptions, server_group};

#[cfg(test)]
pub(crate) use server::scratch_directory;
