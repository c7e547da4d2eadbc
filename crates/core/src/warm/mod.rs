//! Warming: which keys to refill ahead of time, how fast, and how far a run is.
//!
//! * [`keys_of`] makes the keys of a pattern and its values.
//! * [`ValueRange`] and [`DayRange`] are values that need no list.
//! * [`WarmSettings`] say how a plan is carried out.
//! * [`Backoff`] says when a failed refill is tried again.
//! * [`FinishedKeys`] knows up to which key a run is complete, so that it can be resumed there.
//! * [`Estimate`] says ahead of time how long a run will take, and what it will do to the memory.

mod backoff;
mod estimate;
mod finished;
mod keys;
mod settings;
mod values;

pub use backoff::Backoff;
pub use estimate::{Estimate, EstimateInput};
pub use finished::FinishedKeys;
pub use keys::{InvalidPlan, MAX_KEYS, keys_of};
pub use settings::{
    CONCURRENCIES, FreshEntries, InvalidWarmSettings, MAX_RETRIES, Overlap, WarmOrder, WarmSettings,
};
pub use values::{DayRange, InvalidValues, ValueRange};
