//! The state machine of named locks.
//!
//! A lock is held by at most one holder, for a time. Whoever asks for a held lock waits in a queue,
//! first come, first served, until it is granted or its wait is over. A lease ends by its release,
//! by its end time, by an administrator, or, if the holder wished it so, with the holder's
//! connection. Every lease has a [`FencingToken`], larger than all before it, by which what the
//! lock protects can refuse a holder whose time is over and who does not know it.
//!
//! The machine starts nothing and waits for nothing: it says who was granted what, and when it must
//! be looked at again.

mod lease;
mod table;
#[cfg(test)]
pub(super) mod tests;

pub use lease::{
    AccessId, AcquireError, AcquireRequest, FencingToken, Grant, Holder, LeaseEnd, LockCounts,
    LockName, LockNotice, LockOutcome, LockView, MAX_LEASE, MAX_OWNER_BYTES, MAX_WAIT, NotHeld,
    QueuedCaller, SessionId, Ticket,
};
pub use table::LockTable;
