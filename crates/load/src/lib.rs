//! Runs load profiles.
//!
//! A run drives its lanes over the same keys: `cached` reads through Verax with its client library,
//! `direct` reads the origin itself, and others read what the profile says. Two parts work
//! together:
//!
//! * A [generator](generate) sends the requests and counts them, in a process of its own, so that
//!   it does not take processors from the threads of the service.
//! * The conductor ([`conduct`]) starts the generators of a run, has them begin together, merges
//!   their histograms second by second, and judges the figures.
//!
//! They talk over a byte stream, one line of JSON for each message. The maths is in
//! `verax_core::load`.
//!
//! In a closed loop, a client sends its next request after the response to the previous one, so it
//! never exceeds the service's capacity; its latencies are those of callers that wait their turn.
//! In an open loop, requests are due at a rate, and latency counts from when they were due.
//!
//! ```no_run
//! # async fn example(
//! #     plan: verax_load::RunPlan,
//! #     processes: &dyn verax_load::StartGenerator,
//! # ) -> Result<(), String> {
//! let (_steer, steering) = tokio::sync::watch::channel(Default::default());
//! let (_keep, stop) = tokio::sync::watch::channel(false);
//! let report = verax_load::conduct(plan, processes, steering, stop, |progress| {
//!     let Some(tick) = progress.tick else { return };
//!     println!("{} s: {} requests/s", tick.at_seconds, tick.lanes[0].per_second);
//! }).await?;
//! println!("{:?}", report.comparison());
//! # Ok(())
//! # }
//! ```

mod conductor;
mod generator;
mod machine;
mod message;

pub use conductor::{
    FromGenerator, RunPlan, StartGenerator, StartedGenerator, Starting, ToGenerator, conduct,
};
pub use generator::{GeneratorError, generate};
pub use message::ServiceAddress;
