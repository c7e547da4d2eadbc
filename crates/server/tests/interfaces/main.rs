//! The interfaces over a real service: HTTP and the wire protocol.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod conditions;
mod doors;
mod fixture;
mod http;
mod limits;
mod turns;
mod wire;
mod wire_fixture;
