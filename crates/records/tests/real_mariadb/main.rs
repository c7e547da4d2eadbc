//! The records over a real MariaDB.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod nodes;
mod outcomes;
mod records;
