//! Guarding refills: who may refill a key, and who waits for it.
//!
//! What lives here decides and remembers; it starts nothing, waits for nothing and reads no clock.

pub mod lock;
mod refill;

pub use lock::{FencingToken, LockTable};
pub use refill::{Joined, Permit, PermitNumber, RefillTable, Refused, RefusedReason};
