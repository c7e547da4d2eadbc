//! Warm runs and load runs: what is under way, and what it came to.

mod keys;
mod lifecycle;
mod load;
mod table;
mod warm;

pub use load::{LoadPlan, LoadRunner, ProgressSink, RunningLoad, StopSignal};
pub(crate) use table::RunTable;
pub use table::Watched;
pub use warm::CONCURRENCIES;
