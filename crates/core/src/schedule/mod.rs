//! When something is to run: cron expressions and intervals in a time zone, with an active window,
//! jitter, and a rule for times that were missed.
//!
//! A [`Schedule`] has nominal times, its *slots*. They depend on nothing but the schedule, so every
//! process finds the same ones, and a slot that is recorded when it is taken runs once.

mod cron;
mod slots;
mod window;

pub use cron::{CronExpression, InvalidCron};
pub(crate) use slots::next_on_grid;
pub use slots::{
    DueSlots, INTERVALS, InvalidSchedule, MAX_JITTER, MAX_LATENESS, MissedTimes, Schedule, Timing,
};
pub use window::{ActiveWindow, InvalidWindow};
