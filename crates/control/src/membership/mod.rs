//! Which part this Verax has among those that use the same records: one is active, the others
//! stand by.
//!
//! The active one owns the share of the keys (of which there is one today) by a lease that MariaDB
//! guards. A standby follows the records, serves no entries, and takes over when the lease is free
//! and every confirmation of the earlier owner has run out. An active one that a standby may
//! replace gives locks and makes changes only while its own latest confirmation is valid; where
//! there is no standby, it goes on without MariaDB.

mod lease;
mod nodes;

pub(crate) use lease::{membership_loop, while_present};
pub(crate) use nodes::Nodes;
pub use nodes::Role;
