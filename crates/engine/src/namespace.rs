//! A namespace while the engine runs: its entries, its policy, and who is told what happens in it.

use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use verax_core::early;
use verax_core::store::Usage;
use verax_core::{Lifetime, Name, NamespaceId, NamespacePolicy, Partition};
use verax_origin::Origin;

use crate::cache::Watchers;
use crate::engine::Engine;
use crate::error::EngineError;
use crate::events::{Event, Observer};
use crate::in_flight::InFlightBudget;
use crate::turns::TenantTurns;

/// Which namespace it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamespaceIdentity {
    /// Its identity, which no other namespace ever has.
    pub id: NamespaceId,
    /// The tenant that owns it.
    pub tenant: Name,
    /// Its name within the tenant.
    pub name: Name,
}

/// A policy and the origin it reads through to, which change together.
#[derive(Debug)]
pub struct Binding {
    /// The policy.
    pub policy: NamespacePolicy,
    /// The origin that the policy names.
    pub origin: Option<Arc<Origin>>,
}

/// A namespace. What it holds is reached through [handles](crate::Handle) alone.
#[derive(Debug)]
pub struct Namespace {
    identity: NamespaceIdentity,
    engine: Arc<Engine>,
    partition: Arc<Partition>,
    watchers: Watchers,
    observer: Arc<dyn Observer>,
    in_flight: InFlightBudget,
    turns: Arc<TenantTurns>,
    revision: AtomicU64,
    closed: AtomicBool,
    max_value_bytes: AtomicU64,
    has_origin: AtomicBool,
    writes_through: AtomicBool,
    early_refresh: AtomicU16,
    binding: RwLock<Arc<Binding>>,
}

impl Namespace {
    pub(crate) fn new(
        engine: Arc<Engine>,
        identity: NamespaceIdentity,
        binding: Binding,
        observer: Arc<dyn Observer>,
    ) -> Self {
        let policy = &binding.policy;
        Self {
            partition: engine.store().open(identity.id, policy.quota),
            in_flight: engine.tenant_share(&identity.tenant),
            turns: engine.turns.of(&identity.tenant),
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
            binding: RwLock::new(Arc::new(binding)),
        }
    }

    /// Its identity.
    pub fn id(&self) -> NamespaceId {
        self.identity.id
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

    /// How many of its entries went to make room.
    pub fn evicted(&self) -> u64 {
        self.partition.evicted()
    }

    /// The memory for its tenant's values on their way in and out.
    pub fn in_flight(&self) -> &InFlightBudget {
        &self.in_flight
    }

    /// The turns of its tenant at the processors.
    pub fn turns(&self) -> &Arc<TenantTurns> {
        &self.turns
    }

    /// Whether a missing value is read from an origin.
    pub fn has_origin(&self) -> bool {
        self.has_origin.load(Ordering::Relaxed)
    }

    /// The largest value that it allows, in bytes.
    pub fn max_value_bytes(&self) -> u64 {
        self.max_value_bytes.load(Ordering::Relaxed)
    }

    /// Its policy and origin as they are now.
    pub fn binding(&self) -> Arc<Binding> {
        Arc::clone(&self.binding.read().unwrap_or_else(PoisonError::into_inner))
    }

    pub(crate) fn engine(&self) -> &Arc<Engine> {
        &self.engine
    }

    pub(crate) fn partition(&self) -> &Partition {
        &self.partition
    }

    pub(crate) fn watchers(&self) -> &Watchers {
        &self.watchers
    }

    /// Tells the observer.
    pub(crate) fn notify(&self, event: &Event<'_>) {
        self.observer.observe(event);
    }

    /// It was deleted.
    pub(crate) fn close(&self) {
        self.closed.store(true, Ordering::Release);
    }

    /// Refuses what waits, or would, when it was deleted.
    pub(crate) fn needs_open(&self) -> Result<(), EngineError> {
        match self.closed.load(Ordering::Acquire) {
            false => Ok(()),
            true => Err(EngineError::NamespaceGone),
        }
    }

    /// The number of the change that is made now.
    pub(crate) fn next_revision(&self) -> u64 {
        self.revision.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Whether what callers store and delete goes to the origin first.
    pub(crate) fn writes_through(&self) -> bool {
        self.writes_through.load(Ordering::Relaxed)
    }

    /// Whether an entry that is fresh for `left` yet is due to be refreshed early, by the policy's
    /// rule and a new draw.
    pub(crate) fn is_due(&self, took: impl FnOnce() -> Duration, left: Duration) -> bool {
        match self.early_refresh.load(Ordering::Relaxed) {
            0 => false,
            factor => early::is_due(took(), left, factor, rand::random),
        }
    }

    /// The lifetime of an entry that brings none of its own.
    pub(crate) fn lifetime(&self) -> Lifetime {
        let policy = &self.binding().policy;
        match policy.jitter_percent {
            0 => policy.lifetime,
            percent => policy.lifetime.shortened(percent, rand::random()),
        }
    }

    pub(crate) fn bind(&self, binding: Binding) {
        let policy = &binding.policy;
        self.partition.set_quota(policy.quota);
        self.has_origin.store(binding.origin.is_some(), Ordering::Relaxed);
        self.writes_through.store(policy.write_through, Ordering::Relaxed);
        self.early_refresh.store(policy.early_refresh_percent, Ordering::Relaxed);
        self.max_value_bytes.store(policy.max_value_bytes, Ordering::Relaxed);
        *self.binding.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(binding);
    }
}
