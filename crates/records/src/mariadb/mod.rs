//! Records in MariaDB, accessed through Diesel.

mod changes;
mod connection;
mod errors;
mod identities;
pub mod launcher;
mod membership;
mod migrations;
mod schema;
mod snapshot;
mod tables;

pub(crate) use connection::MariaDb;
pub use membership::{LEASE_VALIDITY, Membership, Ownership};
