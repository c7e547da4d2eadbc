//! The wire protocol against its documents, its golden vectors, and itself.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod documents;
mod properties;
mod vectors;
