//! The single-refill state machine.
//!
//! For each key at most one permit is live. Its holder reads the origin; every other caller that
//! asks for the key waits. A permit ends when it is finished or released, when an invalidation
//! voids it, or when it expires. Every waiter is returned exactly once, or becomes the holder
//! itself.
//!
//! The holder is either the service, which reads the origin in a task of its own whatever its
//! callers do, or one caller that refills by itself. They differ when the permit ends without a
//! value: the service starts again for all waiting callers, whereas among callers the first in the
//! queue becomes the next holder.

#[cfg(test)]
mod model;
mod permit;
mod table;
#[cfg(test)]
mod tests;

pub use permit::{
    AcquireRefused, Expired, JoinOutcome, LivePermit, Permit, PermitHolder, PermitNumber,
    PermitView, RefillLimits, Refiller, Refused, RefusedReason, ReleaseOutcome, Voided, WaitTicket,
};
pub use table::RefillTable;
