//! Turns at the processors, by tenant.
//!
//! While more than one tenant sends requests, their connections take turns: those of one tenant run
//! on all processors but one, and the rest wait without using a processor. A tenant's wait
//! therefore grows with the number of busy tenants, not with another tenant's connections, and a
//! single busy tenant leaves the others a processor. A tenant that is alone takes no turns and pays
//! nothing for them.

use std::collections::HashMap;
use std::pin::Pin;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use verax_core::Name;

/// The length of a turn.
pub const TURN: Duration = Duration::from_micros(50);

/// How long a tenant counts as busy after a request.
const BUSY_FOR: Duration = Duration::from_millis(100);

/// The turns of all tenants.
#[derive(Debug)]
pub(crate) struct Turns {
    started: Instant,
    at_once: usize,
    tenants: Mutex<HashMap<Name, Weak<TenantTurns>>>,
    last_number: AtomicU32,
    /// The most recent tenant.
    latest: AtomicU32,
    /// Until when more than one tenant counts as busy, in milliseconds since the start; 0 while one
    /// is alone.
    shared_until: AtomicU64,
}

/// The turns of one tenant.
#[derive(Debug)]
pub struct TenantTurns {
    all: Arc<Turns>,
    number: u32,
    places: Arc<Semaphore>,
}

/// A turn; dropping it lets the tenant's next connection run.
#[derive(Debug)]
pub struct Turn {
    _place: OwnedSemaphorePermit,
}

impl Turns {
    /// Turns at `processors`, of which each tenant may use all but one.
    pub(crate) fn new(processors: usize) -> Arc<Self> {
        Arc::new(Self {
            started: Instant::now(),
            at_once: processors.saturating_sub(1).max(1),
            tenants: Mutex::default(),
            last_number: AtomicU32::new(0),
            latest: AtomicU32::new(0),
            shared_until: AtomicU64::new(0),
        })
    }

    /// The turns of a tenant, which its connections share.
    pub(crate) fn of(self: &Arc<Self>, tenant: &Name) -> Arc<TenantTurns> {
        let mut tenants = self.tenants.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(turns) = tenants.get(tenant).and_then(Weak::upgrade) {
            return turns;
        }
        // Tenants without connections are forgotten from time to time.
        if tenants.len() == tenants.capacity() {
            tenants.retain(|_, turns| turns.strong_count() > 0);
        }
        let turns = Arc::new(TenantTurns {
            all: Arc::clone(self),
            number: self.last_number.fetch_add(1, Ordering::Relaxed) + 1,
            places: Arc::new(Semaphore::new(self.at_once)),
        });
        tenants.insert(tenant.clone(), Arc::downgrade(&turns));
        turns
    }

    /// Whether `tenant` currently shares the processors with others.
    fn are_shared(&self, tenant: u32) -> bool {
        let now = || u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX);
        if self.latest.load(Ordering::Relaxed) != tenant
            && ![0, tenant].contains(&self.latest.swap(tenant, Ordering::Relaxed))
        {
            let until = now().saturating_add(BUSY_FOR.as_millis() as u64);
            self.shared_until.store(until, Ordering::Relaxed);
            return true;
        }
        // The clock is read only where it matters.
        match self.shared_until.load(Ordering::Relaxed) {
            0 => false,
            until if now() < until => true,
            until => {
                let relaxed = Ordering::Relaxed;
                let _ = self.shared_until.compare_exchange(until, 0, relaxed, relaxed);
                false
            }
        }
    }
}

impl TenantTurns {
    /// Waits for a turn while tenants share the processors; `None` if none is needed.
    pub async fn take(&self) -> Option<Turn> {
        if !self.all.are_shared(self.number) {
            return None;
        }
        let place = Arc::clone(&self.places).acquire_owned().await.ok();
        place.map(|place| Turn { _place: place })
    }
}

/// Runs a future for a tenant, one turn per poll: a turn lasts while the future works, not while it
/// waits.
pub struct InTurns<F> {
    turns: Arc<TenantTurns>,
    next: Option<Pin<Box<dyn Future<Output = Option<Turn>> + Send>>>,
    inner: Pin<Box<F>>,
}

impl<F> InTurns<F> {
    /// Runs `inner` in a tenant's turns.
    pub fn new(turns: Arc<TenantTurns>, inner: F) -> Self {
        Self { turns, next: None, inner: Box::pin(inner) }
    }
}

impl<F: Future> Future for InTurns<F> {
    type Output = F::Output;

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<F::Output> {
        let this = &mut *self;
        let next = this.next.get_or_insert_with(|| {
            let turns = Arc::clone(&this.turns);
            Box::pin(async move { turns.take().await })
        });
        let _turn = ready!(next.as_mut().poll(context));
        this.next = None;
        this.inner.as_mut().poll(context)
    }
}

impl<F> std::fmt::Debug for InTurns<F> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "InTurns({:?})", self.turns)
    }
}

#[cfg(test)]
mod tests {
    use futures_util::FutureExt;

    use super::*;

    fn name(text: &str) -> Name {
        Name::new(text).unwrap()
    }

    #[tokio::test]
    async fn a_tenant_alone_never_waits() {
        let turns = Turns::new(1);
        let alone = turns.of(&name("ferrydesk"));
        for _ in 0..10 {
            assert!(alone.take().now_or_never().unwrap().is_none());
        }
    }

    #[tokio::test]
    async fn connections_of_a_tenant_wait_for_each_other_only() {
        let turns = Turns::new(3);
        let (flood, quiet) = (turns.of(&name("flood")), turns.of(&name("tideline")));
        assert!(Arc::ptr_eq(&flood, &turns.of(&name("flood"))));
        assert!(flood.take().now_or_never().unwrap().is_none());
        assert!(quiet.take().now_or_never().unwrap().is_some(), "two are busy");
        let first = flood.take().now_or_never().unwrap().unwrap();
        let _second = flood.take().now_or_never().unwrap().unwrap();
        let mut third = Box::pin(flood.take());
        assert!((&mut third).now_or_never().is_none(), "all processors but one");
        assert!(quiet.take().now_or_never().unwrap().is_some());
        drop(first);
        assert!(third.now_or_never().unwrap().is_some());
    }

    #[tokio::test]
    async fn waiting_requests_hold_no_turn() {
        let turns = Turns::new(2);
        let (flood, quiet) = (turns.of(&name("flood")), turns.of(&name("tideline")));
        assert!(flood.take().now_or_never().is_some() && quiet.take().now_or_never().is_some());
        let (sender, receiver) = tokio::sync::oneshot::channel::<u8>();
        let mut waits = Box::pin(InTurns::new(Arc::clone(&flood), receiver));
        assert!((&mut waits).now_or_never().is_none());
        let turn = flood.take().now_or_never().unwrap();
        assert!(turn.is_some(), "it waits without a turn");
        sender.send(7).unwrap();
        assert!(
            (&mut waits).now_or_never().is_none(),
            "it is done, but another connection has the turn"
        );
        drop(turn);
        assert_eq!(waits.now_or_never(), Some(Ok(7)));
        assert!(flood.take().now_or_never().is_some());
    }

    #[test]
    fn tenants_without_connections_are_forgotten() {
        let turns = Turns::new(1);
        let kept = turns.of(&name("kept"));
        for n in 0..10_000 {
            turns.of(&name(&format!("tenant-{n}")));
        }
        assert!(turns.tenants.lock().unwrap().len() < 100);
        assert!(Arc::ptr_eq(&kept, &turns.of(&name("kept"))));
    }
}
