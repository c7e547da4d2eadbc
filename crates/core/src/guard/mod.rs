//! Guards: refill permits, locks and their queues, circuit breakers, and the choice of a healthy
//! server.
//!
//! Guards decide and remember; they perform no I/O and read no clock.

pub mod breaker;
pub mod endpoints;
pub mod lock;
mod refill;
mod refiller_queue;
pub mod retry_budget;
mod share;

pub use lock::{FencingToken, LockTable};
pub use refill::{
    AcquireRefused, Expired, JoinOutcome, LivePermit, Permit, PermitHolder, PermitNumber,
    PermitView, RefillLimits, RefillTable, Refiller, Refused, RefusedReason, ReleaseOutcome,
    Voided, WaitTicket,
};
pub use refiller_queue::{EXPECTED_WITHIN, MAX_WAITING_REFILLERS, RefillerQueue, RefillerTicket};
pub use share::ShareLimits;
