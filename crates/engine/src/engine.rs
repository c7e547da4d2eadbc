//! The engine and its namespaces: what they own. What they do is in the file of each concept.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock, Weak};
use std::time::Duration;

use tokio::sync::{Semaphore, watch};
use verax_core::damage_limit::DamageLimit;
use verax_core::early;
use verax_core::heat::{HotKeys, KnownKey};
use verax_core::lifetime::CacheControl;
use verax_core::store::{EntryRef, ReuseSample, SampledRead, Usage, WHOLE};
use verax_core::{Freshness, Lifetime, Name, NamespaceId, Partition, Store, Timestamp};

use crate::binding::{Binding, NamespaceIdentity};
use crate::cache::{Cache, Refillers, Watchers};
use crate::clock::Clock;
use crate::error::EngineError;
use crate::events::{Event, Observer};
use crate::in_flight::InFlightBudget;
use crate::locks::Locks;
use crate::options::{EngineOptions, MemoryUse};
use crate::tenant::{TenantShare, Tenants};
use crate::traffic::Traffic;
use crate::turns::TenantTurns;

/// The data plane: entries, refills and locks of all namespaces.
#[derive(Debug)]
pub struct Engine {
    clock: Clock,
    pub(crate) cache: Cache,
    pub(crate) locks: Locks,
    namespaces: RwLock<HashMap<NamespaceId, Weak<Namespace>>>,
    in_flight: InFlightBudget,
    tenants: Tenants,
    serving: AtomicBool,
    searches: Arc<Semaphore>,
    stopping: watch::Sender<bool>,
}

impl Engine {
    /// An engine without namespaces that serves. Its [`tasks`](Self::tasks) must run beside it.
    pub fn new(options: EngineOptions) -> Arc<Self> {
        Arc::new(Self {
            clock: Clock::default(),
            cache: Cache::new(options.memory_limit, options.max_waiters),
            locks: Locks::default(),
            namespaces: RwLock::default(),
            in_flight: InFlightBudget::new(options.in_flight_limit),
            tenants: Tenants::new(options.processors),
            serving: AtomicBool::new(true),
            searches: Arc::new(Semaphore::new(1)),
            stopping: watch::Sender::new(false),
        })
    }

    /// The time by the engine's clock.
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// The time since the engine was created.
    pub fn uptime(&self) -> Duration {
        self.clock.uptime()
    }

    /// Opens a namespace and sends its events to `observer`.
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

    /// Changes a namespace's policy and origin. Stored entries keep their lifetimes. Refills that
    /// began before another origin, by callers or from the previous one, store nothing over its
    /// values.
    pub fn bind(&self, namespace: &Arc<Namespace>, binding: Binding) {
        let before = namespace.binding().origin.as_ref().map(Arc::as_ptr);
        let is_other = before != binding.origin.as_ref().map(Arc::as_ptr);
        let was_bypassed = namespace.is_bypassed(self.now());
        namespace.bind(binding);
        if !was_bypassed && namespace.is_bypassed(self.now()) {
            namespace.watchers().drop_near_copies();
        }
        if is_other {
            namespace.void_prefix("");
        }
    }

    /// Closes a deleted namespace: its entries, waits and leases end now.
    pub fn close_namespace(&self, namespace: &Arc<Namespace>) {
        let mut namespaces = self.namespaces.write().unwrap_or_else(PoisonError::into_inner);
        namespaces.remove(&namespace.id());
        drop(namespaces);
        namespace.close();
        namespace.empty();
        self.locks.end_namespace(namespace.id());
    }

    /// Empties a namespace; returns the number of entries removed.
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

    /// Sets the limit on the memory of entries, in bytes. Above it, entries are evicted gradually.
    pub fn set_memory_limit(&self, bytes: u64) {
        self.store().set_limit(bytes);
    }

    /// One search of values at a time.
    pub(crate) fn searches(&self) -> Arc<Semaphore> {
        Arc::clone(&self.searches)
    }

    /// The in-flight budget for values.
    pub fn in_flight(&self) -> &InFlightBudget {
        &self.in_flight
    }

    /// What the namespaces of a tenant share. It is forgotten when nobody holds it, so whoever sets
    /// a quota keeps it.
    pub fn tenant(&self, name: &Name) -> Arc<TenantShare> {
        self.tenants.of(name, self.store(), &self.in_flight)
    }

    /// Sets whether this engine serves or is a standby.
    pub fn set_serving(&self, serving: bool) {
        self.serving.store(serving, Ordering::Release);
    }

    /// Fails unless this engine serves.
    ///
    /// # Errors
    /// [`EngineError::Standby`].
    pub fn needs_serving(&self) -> Result<(), EngineError> {
        match self.serving.load(Ordering::Acquire) {
            true => Ok(()),
            false => Err(EngineError::Standby),
        }
    }

    /// Ends waits and background work.
    pub fn stop(&self) {
        self.stopping.send_replace(true);
    }

    /// True once the engine stops.
    pub fn stopping(&self) -> watch::Receiver<bool> {
        self.stopping.subscribe()
    }
}

/// A namespace. Its entries are reachable only through [handles](crate::Handle).
#[derive(Debug)]
pub struct Namespace {
    identity: NamespaceIdentity,
    engine: Arc<Engine>,
    partition: Arc<Partition>,
    watchers: Watchers,
    observer: Arc<dyn Observer>,
    share: Arc<TenantShare>,
    traffic: Traffic,
    revision: AtomicU64,
    closed: AtomicBool,
    max_value_bytes: AtomicU64,
    has_origin: AtomicBool,
    writes_through: AtomicBool,
    early_refresh: AtomicU16,
    /// In milliseconds; 0 for no bypass.
    bypass_until: AtomicU64,
    binding: RwLock<Arc<Binding>>,
    damage_limit: Mutex<DamageLimit>,
    refillers: Refillers,
}

impl Namespace {
    pub(crate) fn new(
        engine: Arc<Engine>,
        identity: NamespaceIdentity,
        binding: Binding,
        observer: Arc<dyn Observer>,
    ) -> Self {
        let policy = &binding.policy;
        let share = engine.tenant(&identity.tenant);
        let refillers = Refillers::new(engine.now());
        let partition = engine.store().open_in(share.memory(), identity.id, policy.quota);
        // From the first read on; whoever takes them sets a smaller fraction where it must.
        drop((partition.take_reads(WHOLE), partition.take_reuse(WHOLE, &[])));
        Self {
            partition,
            traffic: Traffic::new(policy.traffic, engine.now()),
            share,
            identity,
            engine,
            watchers: Watchers::default(),
            observer,
            revision: AtomicU64::new(0),
            closed: AtomicBool::new(false),
            max_value_bytes: AtomicU64::new(policy.max_value_bytes),
            has_origin: AtomicBool::new(binding.origin.is_some()),
            writes_through: AtomicBool::new(policy.write_through),
            early_refresh: AtomicU16::new(policy.early_refresh_percent),
            bypass_until: AtomicU64::new(bypass_millis(&binding)),
            binding: RwLock::new(Arc::new(binding)),
            damage_limit: Mutex::default(),
            refillers,
        }
    }

    /// Its identifier.
    pub fn id(&self) -> NamespaceId {
        self.identity.id
    }

    /// The time by the engine's clock.
    pub fn now(&self) -> Timestamp {
        self.engine.now()
    }

    /// The tenant that owns it.
    pub fn tenant(&self) -> &Name {
        &self.identity.tenant
    }

    /// Its name within the tenant.
    pub fn name(&self) -> &Name {
        &self.identity.name
    }

    /// `tenant/namespace`.
    pub fn path(&self) -> String {
        format!("{}/{}", self.identity.tenant, self.identity.name)
    }

    /// The memory that its entries take.
    pub fn usage(&self) -> Usage {
        self.partition.usage()
    }

    /// How many of its entries were evicted.
    pub fn evicted(&self) -> u64 {
        self.partition.evicted()
    }

    /// Its tenant's in-flight budget.
    pub fn in_flight(&self) -> &InFlightBudget {
        self.share.in_flight()
    }

    /// Its tenant's turns at the processors.
    pub fn turns(&self) -> &Arc<TenantTurns> {
        self.share.turns()
    }

    /// What it shares with the other namespaces of its tenant.
    pub fn share(&self) -> &Arc<TenantShare> {
        &self.share
    }

    /// Lets a request of a client pass, if the rates of the namespace and of its tenant allow it.
    ///
    /// # Errors
    /// [`EngineError::QuotaExceeded`]; nothing was charged.
    pub fn admit(&self) -> Result<(), EngineError> {
        if !self.traffic.is_limited() && !self.share.traffic().is_limited() {
            return Ok(());
        }
        let now = self.engine.now();
        let refused = |of: String, (limit, retry_after)| {
            self.share.note_refused();
            self.notify(&Event::QuotaExceeded);
            EngineError::QuotaExceeded { of, limit, retry_after: Some(retry_after) }
        };
        let own = self.traffic.admit(now);
        own.map_err(|by| refused(format!("namespace {}", self.path()), by))?;
        self.share.traffic().admit(now).map_err(|by| {
            self.traffic.take_back();
            refused(format!("tenant {}", self.identity.tenant), by)
        })
    }

    /// Charges the rates with requests beyond the one that was admitted, such as the operations of
    /// a batch.
    pub fn charge_requests(&self, more: u64) {
        if more > 0 {
            self.charge(|traffic, now| traffic.charge_requests(more, now));
        }
    }

    /// Counts bytes of values that callers sent, and charges the rates with them.
    pub(crate) fn count_received(&self, bytes: u64) {
        self.notify(&Event::Received(bytes));
        self.charge(|traffic, now| traffic.charge_bytes(bytes, now));
    }

    /// Counts bytes of values that are sent to callers, and charges the rates with them.
    pub(crate) fn count_sent(&self, bytes: u64) {
        self.notify(&Event::Sent(bytes));
        self.charge(|traffic, now| traffic.charge_bytes(bytes, now));
    }

    /// Takes the sampled reads since the last call, and sets which keys are sampled from now on.
    pub fn take_reads(&self, threshold: u32) -> Vec<SampledRead> {
        self.partition.take_reads(threshold)
    }

    /// Takes the sampled reads for the memory curve since the last call, and sets which keys are
    /// sampled from now on: those below a threshold, but for the known ones.
    pub fn take_reuse(&self, threshold: u32, known: &[KnownKey]) -> ReuseSample {
        self.partition.take_reuse(threshold, known)
    }

    /// The keys whose share of the reads is known well.
    pub fn known_keys(&self) -> Vec<KnownKey> {
        self.partition.known_keys()
    }

    /// An entry, without counting as a request for it.
    pub fn peek(&self, key: &str) -> Option<EntryRef> {
        self.partition.peek(key, self.engine.now())
    }

    /// For how long an entry is still fresh; `None` if there is none that is.
    pub fn fresh_for(&self, key: &str) -> Option<Duration> {
        match self.peek(key)?.freshness() {
            Freshness::Fresh(left) => Some(left),
            _ => None,
        }
    }

    /// Whether reads are counted by key and sampled; they are, unless a measurement turns it off.
    pub fn track_heat(&self, tracks: bool) {
        self.partition.track_heat(tracks);
    }

    /// The keys that are read most, at most `most`.
    pub fn hottest(&self, most: usize) -> HotKeys {
        self.partition.hottest(most, self.engine.now())
    }

    /// How many entries expired and were freed since it was opened.
    pub fn expired(&self) -> u64 {
        self.partition.expired()
    }

    fn charge(&self, charge: impl Fn(&Traffic, Timestamp)) {
        let rates = [&self.traffic, self.share.traffic()];
        if rates.iter().any(|traffic| traffic.is_limited()) {
            let now = self.engine.now();
            rates.into_iter().for_each(|traffic| charge(traffic, now));
        }
    }

    /// Whether a missing value is read from an origin.
    pub fn has_origin(&self) -> bool {
        self.has_origin.load(Ordering::Relaxed)
    }

    /// Whether reads go to the origin as if there were no cache.
    pub fn is_bypassed(&self, now: Timestamp) -> bool {
        let until = self.bypass_until.load(Ordering::Relaxed);
        until != 0 && now.as_millis() < until
    }

    /// How much longer reads go to the origin as if there were no cache, if they do.
    pub fn bypass_left(&self, now: Timestamp) -> Option<Duration> {
        let until = Timestamp::from_millis(self.bypass_until.load(Ordering::Relaxed));
        self.is_bypassed(now).then(|| until.since(now))
    }

    /// The maximum size of a value, in bytes.
    pub fn max_value_bytes(&self) -> u64 {
        self.max_value_bytes.load(Ordering::Relaxed).min(self.share.max_value_bytes())
    }

    /// Its current policy and origin.
    pub fn binding(&self) -> Arc<Binding> {
        Arc::clone(&self.binding.read().unwrap_or_else(PoisonError::into_inner))
    }

    pub(crate) fn engine(&self) -> &Arc<Engine> {
        &self.engine
    }

    /// How often reports of damage may remove entries.
    pub(crate) fn damage_limit(&self) -> &Mutex<DamageLimit> {
        &self.damage_limit
    }

    pub(crate) fn partition(&self) -> &Partition {
        &self.partition
    }

    pub(crate) fn watchers(&self) -> &Watchers {
        &self.watchers
    }

    /// Notifies the observer.
    pub(crate) fn notify(&self, event: &Event<'_>) {
        self.observer.observe(event);
    }

    /// It was deleted.
    pub(crate) fn close(&self) {
        self.closed.store(true, Ordering::Release);
        self.refillers.end();
    }

    /// Fails if the namespace was deleted.
    pub(crate) fn needs_open(&self) -> Result<(), EngineError> {
        match self.closed.load(Ordering::Acquire) {
            false => Ok(()),
            true => Err(EngineError::NamespaceGone),
        }
    }

    /// The services that wait to be asked to refill keys.
    pub(crate) fn refillers(&self) -> &Refillers {
        &self.refillers
    }

    /// The number of the current change.
    pub(crate) fn next_revision(&self) -> u64 {
        self.revision.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Whether puts and deletes go to the origin first.
    pub(crate) fn writes_through(&self) -> bool {
        self.writes_through.load(Ordering::Relaxed)
    }

    /// Whether an entry that stays fresh for `left` is due for early refresh, by the policy's rule
    /// and a new random draw.
    pub(crate) fn is_due(&self, took: impl FnOnce() -> Duration, left: Duration) -> bool {
        match self.early_refresh.load(Ordering::Relaxed) {
            0 => false,
            factor => early::is_due(took(), left, factor, rand::random),
        }
    }

    /// The lifetime of an entry without one of its own.
    pub(crate) fn lifetime(&self) -> Lifetime {
        let policy = &self.binding().policy;
        match policy.jitter_percent {
            0 => policy.lifetime,
            percent => policy.lifetime.shortened(percent, rand::random()),
        }
    }

    /// The lifetime that a caller wants, with absent parts and bounds from the policy.
    pub(crate) fn lifetime_of(&self, wanted: &CacheControl) -> Lifetime {
        let lifetime = wanted.lifetime_or(self.lifetime());
        match wanted.max_age {
            // Jitter may make the namespace's own shorter than its bound.
            None => lifetime,
            Some(_) => self.binding().policy.within_bounds(lifetime),
        }
    }

    /// Fails if a value breaks the namespace's content rule.
    /// From which size on values are stored compressed.
    pub(crate) fn compress_above(&self) -> Option<u64> {
        self.binding().policy.compress_above
    }

    pub(crate) fn check_content(&self, value: &[u8]) -> Result<(), EngineError> {
        let binding = self.binding();
        let policy = &binding.policy;
        policy.check_value(value).map_err(|damage| EngineError::BrokenContent {
            rule: policy.content,
            by_schema: policy.schema.is_some(),
            damage,
        })
    }

    pub(crate) fn bind(&self, binding: Binding) {
        let policy = &binding.policy;
        self.partition.set_quota(policy.quota);
        self.traffic.set(policy.traffic, self.engine.now());
        self.has_origin.store(binding.origin.is_some(), Ordering::Relaxed);
        self.writes_through.store(policy.write_through, Ordering::Relaxed);
        self.early_refresh.store(policy.early_refresh_percent, Ordering::Relaxed);
        self.bypass_until.store(bypass_millis(&binding), Ordering::Relaxed);
        self.max_value_bytes.store(policy.max_value_bytes, Ordering::Relaxed);
        *self.binding.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(binding);
    }
}

/// Until when a namespace with an origin is bypassed, in milliseconds; 0 for no bypass.
fn bypass_millis(binding: &Binding) -> u64 {
    let until = binding.policy.bypass_until.filter(|_| binding.origin.is_some());
    until.map_or(0, Timestamp::as_millis)
}
