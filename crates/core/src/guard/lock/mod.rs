//! The state machine of named locks.
//!
//! A lock has at most one holder at a time. A caller that requests a held lock waits in a queue,
//! first come, first served, until the lock is granted or the wait is over. A lease ends when it is
//! released, when it expires, when an administrator ends it, or, on request, with the holder's
//! connection. Every lease has a [`FencingToken`], larger than all before it, with which the
//! protected resource can refuse a holder whose lease has ended without its knowledge.
//!
//! The machine performs no I/O and reads no clock: it reports who was granted what, and when it
//! must run again.

mod lease;
#[cfg(test)]
mod model;
mod table;
#[cfg(test)]
pub(super) mod tests;

pub use lease::{
    AccessId, AcquireError, AcquireRequest, FencingToken, Grant, Holder, LeaseEnd, LockCounts,
    LockName, LockNotice, LockOutcome, LockView, MAX_LEASE, MAX_OWNER_BYTES, MAX_WAIT, NotHeld,
    QueuedCaller, SessionId, Ticket,
};
pub use table::LockTable;
