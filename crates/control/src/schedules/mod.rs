//! What the control plane does by itself at certain times: schedules, the intervals of policies,
//! and warm plans that follow an invalidation or a start.
//!
//! Only the active node acts. A slot of a schedule is taken in the records before anything begins,
//! and a run that it starts is recorded in the same transaction that says so: after a takeover each
//! slot has run once.

mod actions;
mod administration;
mod engine;
mod intervals;
mod triggers;

pub use administration::schedule_tag;
pub(crate) use engine::carry_out_schedules;
pub(crate) use intervals::follow_intervals;
