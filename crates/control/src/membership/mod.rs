//! This node's role among those that use the same records: one is active, the others are standbys.
//!
//! The active node owns the share of the keys (there is one today) by a lease in MariaDB. A standby
//! follows the records, serves no entries, and takes over when the lease is free and every
//! confirmation of the earlier owner has expired. An active node with a standby grants locks and
//! makes changes only while its own latest confirmation is valid; without a standby, it continues
//! without MariaDB.

mod lease;
mod nodes;

pub(crate) use lease::{membership_loop, while_present};
pub(crate) use nodes::Nodes;
pub use nodes::Role;
