//! Guards: who may refill a key, who holds a lock, who waits for either, and which of
//! several servers is asked, and whether one that fails is asked at all.
//!
//! What lives here decides and remembers; it starts nothing, waits for nothing and reads no clock.

pub mod breaker;
pub mod endpoints;
pub mod lock;
mod refill;
pub mod retry_budget;
mod share;

pub use lock::{FencingToken, LockTable};
pub use refill::{
    AcquireRefused, Expired, JoinOutcome, LivePermit, Permit, PermitHolder, PermitNumber,
    PermitView, RefillLimits, RefillTable, Refiller, Refused, RefusedReason, ReleaseOutcome,
    Voided, WaitTicket,
};
pub use share::ShareLimits;
