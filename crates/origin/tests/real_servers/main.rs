//! Origins against real HTTP servers.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod origins;
mod pools;
