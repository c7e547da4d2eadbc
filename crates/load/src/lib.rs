//! Runs load profiles.
//!
//! A run drives two lanes over the same keys at the same time: `cached` reads through Verax with
//! its client, `direct` reads the origin itself. Each lane has its own clients in a closed loop;
//! each draws keys from the same seeded popularity. Clients take the figures, for each second and
//! for the whole run after the warm-up; the maths is in `verax_core::load`.
//!
//! In a closed loop, a client sends its next read after the response to the previous one, so it
//! never exceeds the service's capacity; its latencies are those of callers that wait their turn.
//! The run has a runtime and threads of its own, so that it does not delay the service it measures.
//!
//! ```no_run
//! # async fn example(plan: verax_load::Plan) -> Result<(), String> {
//! let (_keep, stop) = tokio::sync::watch::channel(false);
//! let report = verax_load::run(plan, |progress| {
//!     println!("{} s: {} reads/s", progress.tick.at_seconds, progress.tick.cached.per_second);
//! }, stop).await?;
//! println!("{:?} times faster at the median", report.comparison.times_faster_p50);
//! # Ok(())
//! # }
//! ```

mod lane;
mod run;
mod stolen;

pub use lane::{CachedLane, DirectLane};
pub use run::{Plan, run};
