//! The single-refill state machine.
//!
//! For each key at most one permit is live. Whoever holds it reads the origin; everyone else who
//! asks for the key meanwhile waits. A permit ends by being finished, by being given back, by an
//! invalidation that voids it, or by its end time; every waiter is handed back exactly once, or
//! becomes the holder itself.
//!
//! A permit is held by the service, which reads the origin in a task of its own whatever its
//! callers do, or by one caller that refills by itself. The two differ in what becomes of those who
//! wait when the permit ends without a value: the service simply begins anew for all of them, while
//! of callers the first in the queue becomes the next holder.

mod permit;
mod table;
#[cfg(test)]
mod tests;

pub use permit::{
    AcquireRefused, Expired, JoinOutcome, LivePermit, Permit, PermitHolder, PermitNumber,
    PermitView, RefillLimits, Refiller, Refused, RefusedReason, ReleaseOutcome, Voided, WaitTicket,
};
pub use table::RefillTable;
