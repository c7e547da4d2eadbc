//! Guarding refills: who may refill a key, and who waits for it.
//!
//! What lives here decides and remembers; it starts nothing, waits for nothing and reads no clock.

mod refill;

pub use refill::{Joined, Permit, PermitNumber, RefillTable, Refused, RefusedReason};
