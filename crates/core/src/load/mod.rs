//! The maths of load runs: which keys to read, how to count, how to compare.
//!
//! Running the requests is the work of the load crate; nothing here sends anything.

mod comparison;
mod popularity;
mod profile;

pub use comparison::{Comparison, LaneFigures, LaneRecorder, Outcome};
pub use popularity::{InvalidPopularity, KeyChooser, Popularity};
pub use profile::{DURATIONS, InvalidProfile, Lane, LoadProfile, MAX_CLIENTS};
