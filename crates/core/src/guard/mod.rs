//! Guards: who may refill a key, who holds a lock, who waits for either, and whether a
//! service that fails is asked at all.
//!
//! What lives here decides and remembers; it starts nothing, waits for nothing and reads no clock.

pub mod breaker;
pub mod lock;
mod refill;

pub use lock::{FencingToken, LockTable};
pub use refill::{
    GivenBack, HeldBy, Joined, Lapsed, LivePermit, Permit, PermitNumber, PermitView, RefillTable,
    Refused, RefusedReason, Voided, WaitTicket,
};
