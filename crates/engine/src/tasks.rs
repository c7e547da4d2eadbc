//! The engine's background tasks.

use std::sync::Arc;
use std::time::{Duration, Instant};

use verax_core::guard::lock::AccessId;

use crate::background::Work;
use crate::cache::end_permits_in_time;
use crate::engine::Engine;
use crate::locks::end_locks_in_time;

/// How often the store is swept, and for how long at most. The rest waits for the next sweep, while
/// requests are served and deadlines are kept.
const TIDY_EVERY: Duration = Duration::from_millis(100);
const TIDY_FOR: Duration = Duration::from_millis(25);

/// How many chunks of the store are swept in one step without yielding.
const TIDY_CHUNKS: usize = 1;

impl Engine {
    /// Ends the leases and waits of a revoked access.
    pub fn withdraw(&self, access: AccessId) {
        self.withdraw_locks(access);
        self.withdraw_permits(access);
    }

    /// The engine's background work, one task for each kind.
    pub fn tasks() -> [fn(Arc<Self>) -> Work; 3] {
        [tidy, end_permits_in_time, |engine| Box::pin(end_locks_in_time(engine))]
    }
}

/// Frees expired, cleared and invalidated entries gradually.
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
