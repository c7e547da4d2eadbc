//! A private MariaDB, for a Verax without a configured one.
//!
//! [`PrivateServer`] initializes a data directory, starts Debian's `mariadbd`, keeps it running,
//! and stops it. The server never runs as root, has one account with a new password at each start,
//! and cannot read or write files for its clients. It listens on a socket that its directory
//! protects, and on loopback only if requested.
//!
//! It leaves no process behind: a clean stop waits for it, the death of Verax by any signal ends it
//! (parent-death signal, prctl(2)), and a start first ends the processes of an earlier one.

mod error;
mod initialize;
mod keeper;
mod leftover;
mod server;
mod user;

pub use error::LaunchError;
pub use server::{Listen, PrivateServer, PrivateServerOptions, server_group};

#[cfg(test)]
pub(crate) use server::scratch_directory;
