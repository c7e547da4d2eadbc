//! The service over real records and a real origin.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod fixture;
mod locks_and_permits;
mod nodes;
mod origins;
mod records;
mod service;
