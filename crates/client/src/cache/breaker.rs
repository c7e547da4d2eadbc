//! A circuit breaker: a cache that does not respond must not cost a timeout on every read.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::time::Instant;
use verax_core::Timestamp;
use verax_core::guard::breaker;

/// Five failures in a row open the circuit, for a quarter of a second at first.
const RULE: breaker::BreakerRule =
    breaker::BreakerRule { failures: 5, pause: Duration::from_millis(250) };

/// The core's circuit breaker, with this process's clock, shared by threads.
#[derive(Debug)]
pub(super) struct Breaker {
    started: Instant,
    /// Whether a call has failed since the last success. If not, the breaker is closed, and calls
    /// need not lock it.
    has_failed: AtomicBool,
    breaker: Mutex<breaker::Breaker>,
}

impl Default for Breaker {
    fn default() -> Self {
        Self {
            started: Instant::now(),
            has_failed: AtomicBool::new(false),
            breaker: Mutex::new(breaker::Breaker::new(RULE)),
        }
    }
}

impl Breaker {
    fn breaker(&self) -> MutexGuard<'_, breaker::Breaker> {
        self.breaker.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn at(&self, now: Instant) -> Timestamp {
        let millis = now.saturating_duration_since(self.started).as_millis();
        Timestamp::from_millis(u64::try_from(millis).unwrap_or(u64::MAX))
    }

    /// Whether a call may be tried now.
    pub(super) fn admits(&self, now: Instant) -> bool {
        !self.has_failed.load(Ordering::Acquire) || self.breaker().admit(self.at(now)).is_ok()
    }

    /// Notes that a call got a response of any kind.
    pub(super) fn succeeded(&self) {
        if self.has_failed.load(Ordering::Acquire) {
            let mut breaker = self.breaker();
            breaker.succeeded();
            self.has_failed.store(false, Ordering::Release);
        }
    }

    /// Notes that a call got no response. `draw` from 0 to 1 spreads the clients that retry.
    pub(super) fn failed(&self, now: Instant, draw: f64) {
        let mut breaker = self.breaker();
        breaker.failed(self.at(now), draw);
        self.has_failed.store(true, Ordering::Release);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn failures_open_the_breaker_and_a_probe_closes_it() {
        let breaker = Breaker::default();
        let start = Instant::now();
        (0..5).for_each(|_| breaker.failed(start, 1.0));
        assert!(!breaker.admits(start + RULE.pause / 2));
        let later = start + RULE.pause + Duration::from_millis(1);
        assert!(breaker.admits(later) && !breaker.admits(later), "one sees, the others wait");
        breaker.succeeded();
        assert!(breaker.admits(later) && breaker.admits(later));
    }
}
