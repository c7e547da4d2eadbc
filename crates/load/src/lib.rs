//! Running load profiles.
//!
//! A run drives two lanes over the same keys in the same stretch of time: `cached` reads through
//! Verax with its client, `direct` reads the origin itself. Each lane has its own clients in a
//! closed loop; each draws keys from the same seeded popularity. Figures are taken by the clients,
//! second by second and over the whole run after the warm-up; the maths is in `verax_core::load`.
//!
//! A closed loop sends a client's next read when the one before is answered, so it never asks for
//! more than the service can give; its latencies are those of callers who wait their turn. The run
//! has a runtime and a thread of its own, so that the service it measures does not wait behind it.
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

pub use lane::{CachedLane, DirectLane};
pub use run::{Plan, run};
