//! The engine: what it owns, and the work it does by itself.

use std::collections::HashMap;
use std::num::NonZero;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError, RwLock, Weak};
use std::time::{Duration, Instant};

use tokio::sync::watch;
use verax_core::guard::lock::AccessId;
use verax_core::{Name, NamespaceId, Store, Timestamp};

use crate::background::Work;
use crate::cache::{Cache, end_permits_in_time};
use crate::clock::Clock;
use crate::error::EngineError;
use crate::events::Observer;
use crate::in_flight::InFlightBudget;
use crate::locks::{Locks, end_locks_in_time};
use crate::namespace::{Binding, Namespace, NamespaceIdentity};
use crate::turns::Turns;

/// How often the store is tidied, and for how long at most: what is left waits for the next time,
/// while requests are answered and deadlines are kept.
const TIDY_EVERY: Duration = Duration::from_millis(100);
const TIDY_FOR: Duration = Duration::from_millis(25);

/// How many chunks of the store are tidied in one step, without letting others run.
const TIDY_CHUNKS: usize = 1;

/// How an engine is set up.
#[derive(Debug, Clone, Copy)]
pub struct EngineOptions {
    /// The most memory that entries may take, in bytes, bookkeeping included.
    pub memory_limit: u64,
    /// The most callers that may wait for one key.
    pub max_waiters: usize,
    /// The most memory for values on their way in and out, in bytes.
    pub in_flight_limit: u64,
    /// How many processors there are, which tenants share.
    pub processors: usize,
}

impl Default for EngineOptions {
    fn default() -> Self {
        Self {
            memory_limit: 256 << 20,
            max_waiters: 20_000,
            in_flight_limit: 256 << 20,
            processors: std::thread::available_parallelism().map_or(1, NonZero::get),
        }
    }
}

/// The data plane: entries, refills and locks of all namespaces.
#[derive(Debug)]
pub struct Engine {
    clock: Clock,
    pub(crate) cache: Cache,
    pub(crate) locks: Locks,
    namespaces: RwLock<HashMap<NamespaceId, Weak<Namespace>>>,
    in_flight: InFlightBudget,
    /// The share of each tenant in it.
    tenant_shares: RwLock<HashMap<Name, InFlightBudget>>,
    pub(crate) turns: Arc<Turns>,
    serving: AtomicBool,
    stopping: watch::Sender<bool>,
}

impl Engine {
    /// An engine without namespaces, which serves. Its [`tasks`](Self::tasks) are to be run beside
    /// it.
    pub fn new(options: EngineOptions) -> Arc<Self> {
        Arc::new(Self {
            clock: Clock::default(),
            cache: Cache::new(options.memory_limit, options.max_waiters),
            locks: Locks::default(),
            namespaces: RwLock::default(),
            in_flight: InFlightBudget::new(options.in_flight_limit),
            tenant_shares: RwLock::default(),
            turns: Turns::new(options.processors),
            serving: AtomicBool::new(true),
            stopping: watch::Sender::new(false),
        })
    }

    /// The work that the engine needs done for as long as it is used, each by a task of its own.
    pub fn tasks() -> [fn(Arc<Self>) -> Work; 3] {
        [tidy, end_permits_in_time, |engine| Box::pin(end_locks_in_time(engine))]
    }

    /// The time by the engine's clock.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// How long the engine has been there.
    pub fn uptime(&self) -> Duration {
        self.clock.uptime()
    }

    /// Opens a namespace, whose events go to `observer`.
    pub fn open_namespace(
        self: &Arc<Self>,
        identity: NamespaceIdentity,
        binding: Binding,
        observer: Arc<dyn Observer>,
    ) -> Arc<Namespace> {
        let id = identity.id;
        let namespace = Arc::new(Namespace::new(Arc::clone(self), identity, binding, observer));
        let mut namespaces = self.namespaces.write().unwrap_or_else(PoisonError::into_inner);
        namespaces.insert(id, Arc::downgrade(&namespace));
        namespace
    }

    /// Changes a namespace's policy and origin. Entries that are stored already keep their
    /// lifetimes.
    pub fn bind(&self, namespace: &Arc<Namespace>, binding: Binding) {
        namespace.bind(binding);
    }

    /// Ends a namespace that is deleted: nothing of it is served, waited for or held from now on.
    pub fn close_namespace(&self, namespace: &Arc<Namespace>) {
        let mut namespaces = self.namespaces.write().unwrap_or_else(PoisonError::into_inner);
        namespaces.remove(&namespace.id());
        drop(namespaces);
        namespace.close();
        namespace.empty();
        self.locks.end_namespace(namespace.id());
    }

    /// Empties a namespace; returns how many entries there were.
    pub fn empty(&self, namespace: &Arc<Namespace>) -> u64 {
        namespace.empty()
    }

    pub(crate) fn namespace(&self, id: NamespaceId) -> Option<Arc<Namespace>> {
        let namespaces = self.namespaces.read().unwrap_or_else(PoisonError::into_inner);
        namespaces.get(&id)?.upgrade()
    }

    pub(crate) fn store(&self) -> &Store {
        &self.cache.store
    }

    /// The memory that entries take, and the limit on it, in bytes.
    pub fn memory(&self) -> MemoryUse {
        let store = self.store();
        MemoryUse { used: store.used(), limit: store.limit(), evicted: store.evicted() }
    }

    /// Sets the limit on the memory that entries take, in bytes. Above it, entries go little by
    /// little.
    pub fn set_memory_limit(&self, bytes: u64) {
        self.store().set_limit(bytes);
    }

    /// The memory for values on their way in and out.
    pub fn in_flight(&self) -> &InFlightBudget {
        &self.in_flight
    }

    /// The share of a tenant in that: half of it, so that no tenant keeps others from sending and
    /// receiving values.
    pub(crate) fn tenant_share(&self, tenant: &Name) -> InFlightBudget {
        let mut shares = self.tenant_shares.write().unwrap_or_else(PoisonError::into_inner);
        let share = || self.in_flight.share(self.in_flight.limit() / 2);
        shares.entry(tenant.clone()).or_insert_with(share).clone()
    }

    /// Sets whether this engine serves, or another one does in its place.
    pub fn set_serving(&self, serving: bool) {
        self.serving.store(serving, Ordering::Release);
    }

    /// Refuses what only a serving engine does.
    ///
    /// # Errors
    /// [`EngineError::Standby`].
    pub fn needs_serving(&self) -> Result<(), EngineError> {
        match self.serving.load(Ordering::Acquire) {
            true => Ok(()),
            false => Err(EngineError::Standby),
        }
    }

    /// Ends what an access that was withdrawn has leased, and what it waits for.
    pub fn withdraw(&self, access: AccessId) {
        self.withdraw_locks(access);
        self.withdraw_permits(access);
    }

    /// Ends waits, and the background work.
    pub fn stop(&self) {
        self.stopping.send_replace(true);
    }

    /// Becomes true when the engine stops.
    pub fn stopping(&self) -> watch::Receiver<bool> {
        self.stopping.subscribe()
    }
}

/// The memory that entries take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MemoryUse {
    /// In bytes, bookkeeping included.
    pub used: u64,
    /// The limit, in bytes.
    pub limit: u64,
    /// How many entries were removed to make room.
    pub evicted: u64,
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
