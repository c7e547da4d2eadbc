//! Runs of every kind: warm runs, load runs and drills, with one lifecycle.

mod drill;
mod keys;
mod lent;
mod lifecycle;
mod load;
mod recording;
mod runner;
mod slot;
mod stand_in;
mod table;
mod warm;

pub use drill::CALLERS;
pub(crate) use keys::{check_sources, zone_of};
pub use lifecycle::{Run, Sampled};
pub(crate) use load::{ActiveLoad, JoinedWorkers};
pub use load::{MAX_MARK_CHARACTERS, MAX_WORKER_NAME, WorkerPlace, load_profile_tag};
pub use recording::RECORDING_LENGTHS;
pub use runner::{
    DrillRunner, DrillSink, JoinedGenerator, LoadControls, LoadPlan, LoadRunner, ProgressSink,
    RunningDrill, RunningLoad, StandInHandle, StopSignal,
};
pub(crate) use slot::SlotOwner;
pub(crate) use table::RunTable;
pub use table::Watched;
pub(crate) use warm::{WarmCause, settings_of};
