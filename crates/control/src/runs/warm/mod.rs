//! Warm runs: refill many keys ahead of time, a few concurrently, from what readers leave free of
//! the origin.

mod estimate;
mod execute;
mod resume;
mod settings;
mod start;
mod work;

pub(crate) use settings::settings_of;
pub(crate) use start::WarmCause;
