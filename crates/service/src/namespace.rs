//! A namespace while the service runs: its record, its origin, and its counts.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, PoisonError, RwLock};

use verax_core::meter::LatencyMeter;
use verax_core::{NamespaceId, NamespacePolicy};
use verax_origin::HttpOrigin;
use verax_records::NamespaceRecord;

/// What is counted for a namespace since the service started. Counting is one relaxed add.
#[derive(Debug, Default)]
pub struct Counters {
    /// Look-ups.
    pub reads: AtomicU64,
    /// Look-ups answered from the cache with a fresh copy.
    pub hits: AtomicU64,
    /// Look-ups answered with a stale copy.
    pub stale: AtomicU64,
    /// Look-ups that waited for a refill that another caller had begun.
    pub joined: AtomicU64,
    /// Look-ups that ended without a value.
    pub misses: AtomicU64,
    /// Values stored by callers.
    pub puts: AtomicU64,
    /// Entries deleted by callers.
    pub deletes: AtomicU64,
    /// Reads of the origin.
    pub origin_calls: AtomicU64,
    /// Reads of the origin that failed.
    pub origin_errors: AtomicU64,
    /// Refills that were not stored because the key was invalidated or written meanwhile.
    pub refused_refills: AtomicU64,
    /// Service-side latency of answers from the cache.
    pub hit_latency: LatencyMeter,
    /// Latency of reads of the origin.
    pub origin_latency: LatencyMeter,
}

/// Adds one.
pub(crate) fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}

/// A policy and the origin it reads through to, which change together.
#[derive(Debug)]
pub(crate) struct Binding {
    pub(crate) policy: NamespacePolicy,
    pub(crate) origin: Option<Arc<HttpOrigin>>,
}

/// A namespace.
#[derive(Debug)]
pub struct Namespace {
    record: NamespaceRecord,
    binding: RwLock<Arc<Binding>>,
    counters: Counters,
}

impl Namespace {
    pub(crate) fn new(record: NamespaceRecord, origin: Option<Arc<HttpOrigin>>) -> Self {
        let binding = Binding { policy: record.policy.clone(), origin };
        Self { record, binding: RwLock::new(Arc::new(binding)), counters: Counters::default() }
    }

    /// Its identity.
    pub fn id(&self) -> NamespaceId {
        self.record.id
    }

    /// Its record; the policy in it is the one it was loaded with.
    pub(crate) fn record(&self) -> &NamespaceRecord {
        &self.record
    }

    /// The tenant that owns it.
    pub fn tenant(&self) -> &verax_core::Name {
        &self.record.tenant
    }

    /// Its name within the tenant.
    pub fn name(&self) -> &verax_core::Name {
        &self.record.name
    }

    /// `tenant/namespace`.
    pub fn path(&self) -> String {
        format!("{}/{}", self.record.tenant, self.record.name)
    }

    /// Its counts.
    pub fn counters(&self) -> &Counters {
        &self.counters
    }

    pub(crate) fn binding(&self) -> Arc<Binding> {
        Arc::clone(&self.binding.read().unwrap_or_else(PoisonError::into_inner))
    }

    pub(crate) fn bind(&self, policy: NamespacePolicy, origin: Option<Arc<HttpOrigin>>) {
        let binding = Arc::new(Binding { policy, origin });
        *self.binding.write().unwrap_or_else(PoisonError::into_inner) = binding;
    }
}
