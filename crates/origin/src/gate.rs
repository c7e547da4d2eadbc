//! The gate of an origin: limits concurrent calls with a bounded queue, picks a healthy server, and
//! has a retry budget.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use tokio::sync::{Semaphore, SemaphorePermit};
use verax_core::Timestamp;
use verax_core::guard::breaker::{BreakerRule, BreakerState};
use verax_core::guard::endpoints::{Endpoints, Health};
use verax_core::guard::retry_budget::RetryBudget;
use verax_core::origin::{Balance, OriginGuard};

use crate::error::OriginError;
use crate::state::{EndpointView, OriginState};

/// The gate of one origin.
#[derive(Debug)]
pub(crate) struct Gate {
    started: Instant,
    endpoints: Mutex<Endpoints>,
    budget: Mutex<RetryBudget>,
    places: Semaphore,
    waiting: AtomicUsize,
    turn: AtomicUsize,
    servers: usize,
    guard: OriginGuard,
}

/// An admitted call.
pub(crate) struct Pass<'g> {
    gate: &'g Gate,
    _place: SemaphorePermit<'g>,
}

/// A call to one server. Dropping it before it ends does not count for or against the server.
pub(crate) struct Attempt<'g> {
    gate: &'g Gate,
    server: usize,
    second: bool,
    health: Health,
}

/// A caller in the queue.
struct InQueue<'g>(&'g AtomicUsize);

impl Drop for InQueue<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Gate {
    pub(crate) fn new(servers: usize, balance: Balance, guard: OriginGuard) -> Self {
        let rule = BreakerRule { failures: guard.failure_threshold, pause: guard.open_for };
        Self {
            started: Instant::now(),
            endpoints: Mutex::new(Endpoints::new(servers, rule, balance)),
            budget: Mutex::new(RetryBudget::new(guard.retry_budget_percent)),
            places: Semaphore::new(guard.max_concurrency as usize),
            waiting: AtomicUsize::new(0),
            turn: AtomicUsize::new(0),
            servers,
            guard,
        }
    }

    fn now(&self) -> Timestamp {
        Timestamp::from_millis(
            u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX),
        )
    }

    fn endpoints(&self) -> MutexGuard<'_, Endpoints> {
        self.endpoints.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn budget(&self) -> MutexGuard<'_, RetryBudget> {
        self.budget.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A server for an unguarded call.
    pub(crate) fn in_turn(&self) -> usize {
        self.turn.fetch_add(1, Ordering::Relaxed) % self.servers
    }

    /// Admits a call, as soon as there is capacity.
    ///
    /// # Errors
    /// [`OriginError::Busy`] if the queue is full, or there is no capacity in time.
    pub(crate) async fn enter(&self, deadline: Instant) -> Result<Pass<'_>, OriginError> {
        let place = match self.places.try_acquire() {
            Ok(place) => place,
            Err(_) => {
                let longest = self.guard.max_queue as usize;
                if self.waiting.fetch_add(1, Ordering::Relaxed) >= longest {
                    self.waiting.fetch_sub(1, Ordering::Relaxed);
                    return Err(OriginError::Busy);
                }
                let _queued = InQueue(&self.waiting);
                let place = tokio::time::timeout_at(deadline.into(), self.places.acquire());
                place.await.map_err(|_| OriginError::Busy)?.map_err(|_| OriginError::Busy)?
            }
        };
        self.budget().earn();
        Ok(Pass { gate: self, _place: place })
    }

    /// Spends a retry from the budget, if one is left.
    pub(crate) fn may_retry(&self) -> bool {
        self.budget().take()
    }

    /// Whether the circuits of all servers are open, so that no call is admitted.
    pub(crate) fn is_shut(&self) -> bool {
        matches!(self.endpoints().state(self.now()), BreakerState::Open(_))
    }

    /// The state of its servers at `urls`, and of its queue.
    pub(crate) fn state(&self, urls: Vec<String>) -> OriginState {
        let (endpoints, now) = (self.endpoints(), self.now());
        let views = urls.into_iter().zip(endpoints.states(now));
        OriginState {
            breaker: endpoints.state(now),
            under_way: self.guard.max_concurrency as usize - self.places.available_permits(),
            waiting: self.waiting.load(Ordering::Relaxed),
            endpoints: views.map(|(url, state)| EndpointView { url, state }).collect(),
        }
    }
}

impl<'g> Pass<'g> {
    /// Picks a healthy server; for a retry, a different one if possible.
    ///
    /// # Errors
    /// [`OriginError::CircuitOpen`] while the circuits of all servers are open.
    pub(crate) fn attempt(&self, before: Option<usize>) -> Result<Attempt<'g>, OriginError> {
        let gate = self.gate;
        let chosen = gate.endpoints().choose(before, gate.now());
        let server = chosen.map_err(|retry_after| OriginError::CircuitOpen { retry_after })?;
        Ok(Attempt { gate, server, second: before.is_some(), health: Health::Unknown })
    }
}

impl Attempt<'_> {
    /// The number of the server to call.
    pub(crate) fn server(&self) -> usize {
        self.server
    }

    /// Whether it is a retry.
    pub(crate) fn is_second(&self) -> bool {
        self.second
    }

    /// Records the outcome for the server's circuit.
    pub(crate) fn ended(mut self, health: Health) {
        self.health = health;
    }
}

impl Drop for Attempt<'_> {
    fn drop(&mut self) {
        self.gate.endpoints().ended(self.server, self.health, self.gate.now());
    }
}
