//! A namespace while the service runs: its record, its origin, and its counts.

use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use verax_core::early;
use verax_core::meter::{LatencyCounts, LatencyMeter};
use verax_core::{Lifetime, NamespaceId, NamespacePolicy, Partition};
use verax_origin::Origin;
use verax_records::NamespaceRecord;

use crate::cache::{RefillOutcome, Watchers};
use crate::hits::HitCounters;

/// What is counted for a namespace since the service started. Counting is one relaxed add.
#[derive(Debug, Default)]
pub struct Counters {
    hits: HitCounters,
    /// Look-ups answered with a stale copy because the origin failed.
    pub stale_on_error: AtomicU64,
    /// Look-ups answered by a refill of their own.
    pub refilled: AtomicU64,
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
    /// Permits given to callers that refill by themselves.
    pub permits: AtomicU64,
    /// Refills that were not stored because the key was invalidated or written meanwhile.
    pub refused_refills: AtomicU64,
    /// Look-ups answered from the cache with the word that the origin has no value.
    pub negative_hits: AtomicU64,
    /// Values and deletions sent to the origin.
    pub origin_writes: AtomicU64,
    /// Latency of reads of the origin.
    pub origin_latency: LatencyMeter,
    /// How long refills took, from the permit to the end.
    pub refill_latency: LatencyMeter,
    refills: [AtomicU64; RefillOutcome::ALL.len()],
}

impl Counters {
    /// Counts look-ups that were answered from the cache, and what each took.
    pub fn count_hits(&self, hits: u64, stale: u64, each: Duration) {
        self.hits.count(hits, stale, each);
    }

    /// Look-ups answered from the cache with a fresh copy.
    pub fn hits(&self) -> u64 {
        self.hits.fresh()
    }

    /// Look-ups answered with a stale copy.
    pub fn stale(&self) -> u64 {
        self.hits.stale() + self.stale_on_error.load(Ordering::Relaxed)
    }

    /// Look-ups that have ended.
    pub fn reads(&self) -> u64 {
        let others = [&self.refilled, &self.joined, &self.misses, &self.negative_hits];
        let others: u64 = others.iter().map(|counter| counter.load(Ordering::Relaxed)).sum();
        self.hits() + self.stale() + others
    }

    /// Counts a refill that has ended.
    pub(crate) fn count_refill(&self, outcome: RefillOutcome, took: Duration) {
        count(&self.refills[outcome as usize]);
        self.refill_latency.record(took);
    }

    /// How many refills ended with an outcome.
    pub fn refills(&self, outcome: RefillOutcome) -> u64 {
        self.refills[outcome as usize].load(Ordering::Relaxed)
    }

    /// Service-side latency of answers from the cache.
    pub fn hit_latency(&self) -> LatencyCounts {
        self.hits.latency()
    }
}

/// Adds one.
pub(crate) fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}

/// A policy and the origin it reads through to, which change together.
#[derive(Debug)]
pub(crate) struct Binding {
    pub(crate) policy: NamespacePolicy,
    pub(crate) origin: Option<Arc<Origin>>,
}

/// A namespace.
#[derive(Debug)]
pub struct Namespace {
    record: NamespaceRecord,
    partition: Arc<Partition>,
    watchers: Watchers,
    largest_value: AtomicU64,
    has_origin: AtomicBool,
    writes_through: AtomicBool,
    early_refresh: AtomicU16,
    binding: RwLock<Arc<Binding>>,
    counters: Counters,
}

impl Namespace {
    /// `partition` was opened for it with its quota.
    pub(crate) fn new(
        record: NamespaceRecord,
        origin: Option<Arc<Origin>>,
        partition: Arc<Partition>,
    ) -> Self {
        let largest_value = AtomicU64::new(record.policy.largest_value);
        let has_origin = AtomicBool::new(origin.is_some());
        let writes_through = AtomicBool::new(record.policy.write_through);
        let early_refresh = AtomicU16::new(record.policy.early_refresh_percent);
        let binding = RwLock::new(Arc::new(Binding { policy: record.policy.clone(), origin }));
        let (watchers, counters) = (Watchers::default(), Counters::default());
        Self {
            record,
            partition,
            watchers,
            largest_value,
            has_origin,
            writes_through,
            early_refresh,
            binding,
            counters,
        }
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

    /// Its entries.
    pub(crate) fn partition(&self) -> &Partition {
        &self.partition
    }

    /// Whether a missing value is read from an origin.
    pub fn has_origin(&self) -> bool {
        self.has_origin.load(Ordering::Relaxed)
    }

    /// Whether what callers store and delete goes to the origin first.
    pub fn writes_through(&self) -> bool {
        self.writes_through.load(Ordering::Relaxed)
    }

    /// Whether an entry that is fresh for `left` yet is due to be refreshed early, by the policy's rule
    /// and a new draw.
    pub(crate) fn is_due(&self, took: impl FnOnce() -> Duration, left: Duration) -> bool {
        match self.early_refresh.load(Ordering::Relaxed) {
            0 => false,
            factor => early::is_due(took(), left, factor, rand::random),
        }
    }

    pub(crate) fn watchers(&self) -> &Watchers {
        &self.watchers
    }

    /// The largest value that it allows, in bytes.
    pub fn largest_value(&self) -> u64 {
        self.largest_value.load(Ordering::Relaxed)
    }

    /// The lifetime of an entry that brings none of its own.
    pub(crate) fn lifetime(&self) -> Lifetime {
        let policy = &self.binding().policy;
        match policy.jitter_percent {
            0 => policy.lifetime,
            percent => policy.lifetime.shortened(percent, rand::random()),
        }
    }

    pub(crate) fn binding(&self) -> Arc<Binding> {
        Arc::clone(&self.binding.read().unwrap_or_else(PoisonError::into_inner))
    }

    pub(crate) fn bind(&self, policy: NamespacePolicy, origin: Option<Arc<Origin>>) {
        self.partition.set_quota(policy.quota);
        self.has_origin.store(origin.is_some(), Ordering::Relaxed);
        self.writes_through.store(policy.write_through, Ordering::Relaxed);
        self.early_refresh.store(policy.early_refresh_percent, Ordering::Relaxed);
        self.largest_value.store(policy.largest_value, Ordering::Relaxed);
        let binding = Arc::new(Binding { policy, origin });
        *self.binding.write().unwrap_or_else(PoisonError::into_inner) = binding;
    }
}
