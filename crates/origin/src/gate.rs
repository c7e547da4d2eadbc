//! The gate of an origin: limits concurrent calls with a bounded queue, picks a healthy server, and
//! has a retry budget.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore, SemaphorePermit};
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
    places: Arc<Semaphore>,
    waiting: AtomicUsize,
    /// How many places are held by callers that take only what others leave.
    spare: AtomicUsize,
    /// A place became free.
    freed: Notify,
    turn: AtomicUsize,
    servers: usize,
    guard: OriginGuard,
}

/// An admitted call.
pub(crate) struct Pass<'g> {
    gate: &'g Gate,
    place: Option<Place<'g>>,
}

enum Place<'g> {
    Own(#[expect(dead_code, reason = "released on drop")] SemaphorePermit<'g>),
    Spare(#[expect(dead_code, reason = "released on drop")] SparePlace),
}

impl Drop for Pass<'_> {
    fn drop(&mut self) {
        self.place = None;
        self.gate.freed.notify_waiters();
    }
}

/// A place at the gate of an origin that other callers left free, for a refill that can wait.
#[derive(Debug)]
pub struct SparePlace {
    gate: Arc<Gate>,
    permit: Option<OwnedSemaphorePermit>,
}

impl Drop for SparePlace {
    fn drop(&mut self) {
        let held = self.permit.take().is_some();
        self.gate.spare.fetch_sub(1, Ordering::AcqRel);
        // One that got no permit freed none.
        if held {
            self.gate.freed.notify_waiters();
        }
    }
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
            places: Arc::new(Semaphore::new(guard.max_concurrency as usize)),
            waiting: AtomicUsize::new(0),
            spare: AtomicUsize::new(0),
            freed: Notify::new(),
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
        Ok(Pass { gate: self, place: Some(Place::Own(place)) })
    }

    /// Admits a call to a place that was taken before.
    pub(crate) fn enter_with(&self, place: SparePlace) -> Pass<'_> {
        self.budget().earn();
        Pass { gate: self, place: Some(Place::Spare(place)) }
    }

    /// Takes a place once it is not the last free one, nobody waits for one, and fewer than `most`
    /// are taken this way.
    pub(crate) async fn spare_place(self: &Arc<Self>, most: usize) -> SparePlace {
        loop {
            let mut freed = std::pin::pin!(self.freed.notified());
            // From now on no notification is missed.
            freed.as_mut().enable();
            if let Some(place) = self.try_spare_place(most) {
                return place;
            }
            freed.await;
        }
    }

    fn try_spare_place(self: &Arc<Self>, most: usize) -> Option<SparePlace> {
        let more = |taken| (taken < most).then_some(taken + 1);
        self.spare.fetch_update(Ordering::AcqRel, Ordering::Acquire, more).ok()?;
        let mut place = SparePlace { gate: Arc::clone(self), permit: None };
        // Both or none, and none while callers are queued: one goes back immediately.
        let mut two = Arc::clone(&self.places).try_acquire_many_owned(2).ok()?;
        place.permit = two.split(1);
        Some(place)
    }

    /// The most concurrent calls.
    pub(crate) fn max_concurrency(&self) -> u32 {
        self.guard.max_concurrency
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

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn gate(max_concurrency: u32) -> Arc<Gate> {
        let guard = OriginGuard { max_concurrency, max_queue: 10, ..OriginGuard::default() };
        Arc::new(Gate::new(1, Balance::default(), guard))
    }

    #[tokio::test]
    async fn spare_places_leave_the_last_one_to_others() {
        let gate = gate(3);
        let first = gate.try_spare_place(10).unwrap();
        let second = gate.try_spare_place(10).unwrap();
        assert!(gate.try_spare_place(10).is_none());
        let soon = Instant::now() + Duration::from_secs(60);
        let pass = gate.enter(soon).await.unwrap();
        assert_eq!(gate.places.available_permits(), 0);
        // A waiting caller comes before whoever takes what is left.
        let waiter = {
            let gate = Arc::clone(&gate);
            tokio::spawn(async move { drop(gate.enter(soon).await.unwrap()) })
        };
        while gate.waiting.load(Ordering::Relaxed) == 0 {
            tokio::task::yield_now().await;
        }
        let spare = {
            let gate = Arc::clone(&gate);
            tokio::spawn(async move { gate.spare_place(10).await })
        };
        drop(first);
        waiter.await.unwrap();
        assert!(!spare.is_finished());
        drop(pass);
        let third = spare.await.unwrap();
        assert_eq!((gate.places.available_permits(), gate.spare.load(Ordering::Relaxed)), (1, 2));
        drop((second, third));
        assert_eq!((gate.places.available_permits(), gate.spare.load(Ordering::Relaxed)), (3, 0));
    }

    #[tokio::test]
    async fn spare_places_are_bounded_by_their_share() {
        let gate = gate(8);
        let held: Vec<_> = (0..2).map(|_| gate.try_spare_place(2).unwrap()).collect();
        assert!(gate.try_spare_place(2).is_none());
        let waiting = {
            let gate = Arc::clone(&gate);
            tokio::spawn(async move { gate.spare_place(2).await })
        };
        drop(held);
        drop(waiting.await.unwrap());
        assert_eq!(gate.spare.load(Ordering::Relaxed), 0);
    }

    #[tokio::test]
    async fn a_single_place_is_never_spare() {
        assert!(gate(1).try_spare_place(1).is_none());
    }
}
