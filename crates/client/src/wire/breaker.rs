//! A breaker: a cache that does not answer must not cost a timeout on every read.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Failures in a row after which nothing is tried for a while.
const FAILURES: u32 = 5;

/// How long nothing is tried at first, and at most.
const SHORTEST: Duration = Duration::from_millis(250);
const LONGEST: Duration = Duration::from_secs(10);

/// Lets calls through as long as they succeed. After several failures in a row it refuses for a
/// while, then lets one call through to see; each time that fails, the while doubles.
#[derive(Debug, Default)]
pub(super) struct Breaker(Mutex<State>);

#[derive(Debug, Default)]
struct State {
    failures: u32,
    /// Refuses until then; one call is let through after it.
    closed_until: Option<Instant>,
    pause: Duration,
}

impl Breaker {
    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a call may be tried now. The one that is let through to see holds the others off until
    /// it has ended, or for as long again.
    pub(super) fn admits(&self, now: Instant) -> bool {
        let mut state = self.state();
        match state.closed_until {
            None => true,
            Some(until) if now < until => false,
            Some(_) => {
                state.closed_until = Some(now + state.pause);
                true
            }
        }
    }

    /// A call was answered, with whatever.
    pub(super) fn succeeded(&self) {
        let mut state = self.state();
        if state.failures > 0 {
            *state = State::default();
        }
    }

    /// A call was not answered. `draw` from 0 to 1 spreads the clients that return.
    pub(super) fn failed(&self, now: Instant, draw: f64) {
        let mut state = self.state();
        state.failures += 1;
        if state.failures >= FAILURES {
            state.pause = (state.pause * 2).clamp(SHORTEST, LONGEST);
            state.closed_until = Some(now + state.pause.mul_f64(0.5 + draw / 2.0));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_opens_after_failures_in_a_row_and_lets_one_see() {
        let (breaker, start) = (Breaker::default(), Instant::now());
        for _ in 0..4 {
            breaker.failed(start, 1.0);
        }
        assert!(breaker.admits(start));
        breaker.succeeded();
        (0..5).for_each(|_| breaker.failed(start, 1.0));
        assert!(!breaker.admits(start + SHORTEST / 2));
        let later = start + SHORTEST;
        assert!(breaker.admits(later) && !breaker.admits(later), "one sees, the others wait");
        breaker.failed(later, 1.0);
        assert!(!breaker.admits(later + SHORTEST), "the while doubles");
        assert!(breaker.admits(later + SHORTEST * 2));
        breaker.succeeded();
        assert!(breaker.admits(later) && breaker.admits(later));
    }

    #[test]
    fn the_while_has_an_end() {
        let (breaker, now) = (Breaker::default(), Instant::now());
        (0..100).for_each(|_| breaker.failed(now, 0.0));
        assert!(breaker.admits(now + LONGEST));
    }
}
