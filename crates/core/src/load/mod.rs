//! The maths of load runs: which keys to read, how to count, how to compare.
//!
//! Running the requests is the work of the load crate; nothing here sends anything.

mod comparison;
mod interval;
mod popularity;
mod profile;
mod scalability;
mod verdict;

pub use comparison::{Comparison, LaneFigures, LaneRecorder, Outcome};
pub use interval::{CONFIDENCE, ConfidenceInterval, MIN_SLICES, PairedSlice, ratio_interval};
pub use popularity::{InvalidPopularity, KeyChooser, Popularity};
pub use profile::{DURATIONS, InvalidProfile, Lane, LoadProfile, MAX_CLIENTS};
pub use scalability::{MIN_STEPS, Scalability, Step, fit_scalability};
pub use verdict::{Doubt, MAX_ERROR_SHARE, MAX_STOLEN_SHARE, MIN_HIT_RATIO, doubts};
