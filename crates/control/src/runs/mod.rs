//! Runs of every kind: warm runs, load runs and drills, with one lifecycle.

mod drill;
mod keys;
mod lent;
mod lifecycle;
mod load;
mod runner;
mod slot;
mod table;
mod warm;

pub use drill::CALLERS;
pub(crate) use keys::{check_sources, zone_of};
pub use lifecycle::Run;
pub use runner::{
    DrillRunner, DrillSink, LoadPlan, LoadRunner, ProgressSink, RunningDrill, RunningLoad,
    StopSignal,
};
pub(crate) use slot::SlotOwner;
pub(crate) use table::RunTable;
pub use table::Watched;
pub(crate) use warm::{WarmCause, settings_of};
