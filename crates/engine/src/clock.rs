//! The engine's clock: wall time at the start, monotonic from then on.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use tokio::time::Instant;
use verax_core::Timestamp;

/// A clock that never runs backwards within a process, even when the wall clock is set.
#[derive(Debug, Clone, Copy)]
pub struct Clock {
    anchor: Instant,
    wall: Duration,
}

impl Default for Clock {
    fn default() -> Self {
        let wall = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        Self { anchor: Instant::now(), wall }
    }
}

impl Clock {
    /// The time now.
    pub fn now(&self) -> Timestamp {
        let since_epoch = self.wall + self.anchor.elapsed();
        Timestamp::from_millis(u64::try_from(since_epoch.as_millis()).unwrap_or(u64::MAX))
    }

    /// The time since the clock was made.
    pub fn uptime(&self) -> Duration {
        self.anchor.elapsed()
    }
}
