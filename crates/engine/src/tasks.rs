//! The work that an engine needs done beside it.

use std::sync::Arc;
use std::time::{Duration, Instant};

use verax_core::guard::lock::AccessId;

use crate::background::Work;
use crate::cache::end_permits_in_time;
use crate::engine::Engine;
use crate::locks::end_locks_in_time;

/// How often the store is tidied, and for how long at most: what is left waits for the next time,
/// while requests are answered and deadlines are kept.
const TIDY_EVERY: Duration = Duration::from_millis(100);
const TIDY_FOR: Duration = Duration::from_millis(25);

/// How many chunks of the store are tidied in one step, without letting others run.
const TIDY_CHUNKS: usize = 1;

impl Engine {
    /// Ends what an access that was withdrawn has leased, and what it waits for.
    pub fn withdraw(&self, access: AccessId) {
        self.withdraw_locks(access);
        self.withdraw_permits(access);
    }

    /// The work that the engine needs done for as long as it is used, each by a task of its own.
    pub fn tasks() -> [fn(Arc<Self>) -> Work; 3] {
        [tidy, end_permits_in_time, |engine| Box::pin(end_locks_in_time(engine))]
    }
}

/// Frees what ended, was cleared or was invalidated, a little at a time.
fn tidy(engine: Arc<Engine>) -> Work {
    Box::pin(async move {
        let mut ticks = tokio::time::interval(TIDY_EVERY);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let (now, began) = (engine.now(), Instant::now());
            while engine.store().tidy(TIDY_CHUNKS, now).1 && began.elapsed() < TIDY_FOR {
                tokio::task::yield_now().await;
            }
        }
    })
}
