//! What stands before an origin: a bound on calls at once with a bounded queue, and a breaker.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::{Semaphore, SemaphorePermit};
use verax_core::Timestamp;
use verax_core::guard::breaker::{Breaker, BreakerState};

use crate::error::OriginError;

/// Calls of one origin at once; further ones wait.
const MOST_AT_ONCE: usize = 256;

/// The most calls that wait for a place.
const LONGEST_QUEUE: usize = 10_000;

/// How long an origin is left alone at first.
const SHORTEST_PAUSE: Duration = Duration::from_millis(500);

/// The gate of one origin.
#[derive(Debug)]
pub(crate) struct Gate {
    started: Instant,
    breaker: Mutex<Breaker>,
    places: Semaphore,
    waiting: AtomicUsize,
}

/// A call that was let in. One that is dropped before it ended counts neither way.
pub(crate) struct Pass<'g> {
    gate: &'g Gate,
    _place: SemaphorePermit<'g>,
}

/// An origin's gate at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GateState {
    /// What its breaker does.
    pub breaker: BreakerState,
    /// Calls under way.
    pub under_way: usize,
    /// Calls that wait for a place.
    pub waiting: usize,
}

impl Default for Gate {
    fn default() -> Self {
        Self {
            started: Instant::now(),
            breaker: Mutex::new(Breaker::new(SHORTEST_PAUSE)),
            places: Semaphore::new(MOST_AT_ONCE),
            waiting: AtomicUsize::new(0),
        }
    }
}

/// A caller in the queue.
struct InQueue<'g>(&'g AtomicUsize);

impl Drop for InQueue<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Gate {
    fn now(&self) -> Timestamp {
        Timestamp::from_millis(
            u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX),
        )
    }

    fn breaker(&self) -> MutexGuard<'_, Breaker> {
        self.breaker.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lets a call in, as soon as there is a place.
    ///
    /// # Errors
    /// [`OriginError::SetAside`] while the breaker is open, [`OriginError::Busy`] when too many wait.
    pub(crate) async fn enter(&self) -> Result<Pass<'_>, OriginError> {
        if self.waiting.fetch_add(1, Ordering::Relaxed) >= LONGEST_QUEUE {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return Err(OriginError::Busy);
        }
        let queued = InQueue(&self.waiting);
        let place = self.places.acquire().await.map_err(|_| OriginError::Busy)?;
        drop(queued);
        // Looked at last, since it may have opened while the call waited.
        let set_aside = |retry_after| OriginError::SetAside { retry_after };
        self.breaker().admit(self.now()).map_err(set_aside)?;
        Ok(Pass { gate: self, _place: place })
    }

    pub(crate) fn state(&self) -> GateState {
        GateState {
            breaker: self.breaker().state(self.now()),
            under_way: MOST_AT_ONCE - self.places.available_permits(),
            waiting: self.waiting.load(Ordering::Relaxed),
        }
    }
}

impl Pass<'_> {
    /// What the call came to: an origin that has no such value is well.
    pub(crate) fn ended<T>(self, outcome: &Result<T, OriginError>) {
        let mut breaker = self.gate.breaker();
        match outcome {
            Ok(_) | Err(OriginError::NoValue { .. }) => breaker.succeeded(),
            // Neither says that the origin is down: it answered, with something that is not allowed.
            Err(OriginError::TooLarge { .. }) => breaker.succeeded(),
            Err(OriginError::Status { status, .. }) if *status < 500 && *status != 429 => {
                breaker.succeeded();
            }
            Err(_) => breaker.failed(self.gate.now(), 1.0),
        }
    }
}
