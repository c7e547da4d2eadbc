//! The observers of namespaces.

use std::collections::hash_map::RandomState;
use std::hash::BuildHasher;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use verax_core::advice::{Advice, LifetimeObservation};
use verax_core::memory_curve::{MemoryCurve, ReuseObservation};
use verax_core::{NamespaceId, Timestamp};
use verax_engine::Namespace;
use verax_engine::events::{ChangeKind, DamageRecord, Event, LockEvent, Observer, RefillRecord};

use crate::counters::{CounterReading, Counters};
use crate::recent::Recent;

/// The statistics of all namespaces.
#[derive(Debug, Default)]
pub struct Observatory {
    refills: Arc<Recent<RefillRecord>>,
    locks: Arc<Recent<LockEvent>>,
    damage: Arc<Recent<DamageRecord>>,
}

impl Observatory {
    /// Opens the observer of a namespace.
    pub fn open(&self, namespace: NamespaceId) -> Arc<Statistics> {
        Arc::new(Statistics {
            namespace,
            counters: Counters::default(),
            invalidations: AtomicU64::new(0),
            refills: Arc::clone(&self.refills),
            locks: Arc::clone(&self.locks),
            damage: Arc::clone(&self.damage),
            hashing: RandomState::new(),
            lifetimes: Mutex::new(LifetimeObservation::new(Timestamp::from_millis(0))),
            reuse: Mutex::default(),
        })
    }

    /// The latest refills of the namespaces that `which` accepts, newest first.
    pub fn latest_refills<N>(
        &self,
        which: impl Fn(NamespaceId) -> Option<N>,
        most: usize,
    ) -> Vec<(N, RefillRecord)> {
        self.refills.latest(which, most)
    }

    /// The latest lock events of the namespaces that `which` accepts, newest first.
    pub fn latest_lock_events<N>(
        &self,
        which: impl Fn(NamespaceId) -> Option<N>,
        most: usize,
    ) -> Vec<(N, LockEvent)> {
        self.locks.latest(which, most)
    }

    /// The latest refills of a namespace, newest first.
    pub fn refills_of(&self, namespace: NamespaceId) -> Vec<RefillRecord> {
        self.refills.of(namespace)
    }

    /// The latest lock events of a namespace, newest first.
    pub fn lock_events_of(&self, namespace: NamespaceId) -> Vec<LockEvent> {
        self.locks.of(namespace)
    }

    /// The latest reports of damage in a namespace, newest first.
    pub fn damage_of(&self, namespace: NamespaceId) -> Vec<DamageRecord> {
        self.damage.of(namespace)
    }
}

/// The statistics and recent events of one namespace.
#[derive(Debug)]
pub struct Statistics {
    namespace: NamespaceId,
    counters: Counters,
    invalidations: AtomicU64,
    refills: Arc<Recent<RefillRecord>>,
    locks: Arc<Recent<LockEvent>>,
    damage: Arc<Recent<DamageRecord>>,
    hashing: RandomState,
    lifetimes: Mutex<LifetimeObservation>,
    reuse: Mutex<ReuseObservation>,
}

impl Statistics {
    fn reuse(&self) -> MutexGuard<'_, ReuseObservation> {
        self.reuse.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn lifetimes(&self) -> MutexGuard<'_, LifetimeObservation> {
        self.lifetimes.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes what was sampled of the namespace's reads since the last call.
    pub fn observe_reads(&self, namespace: &Namespace, now: Timestamp) {
        let all = self.counters.reads();
        let mut lifetimes = self.lifetimes();
        let reads = namespace.take_reads(lifetimes.threshold());
        lifetimes.take(&reads, all.reads, now);
        drop(lifetimes);
        let lifetime = namespace.binding().policy.lifetime;
        let mut reuse = self.reuse();
        let sample = namespace.take_reuse(reuse.threshold(), &namespace.known_keys());
        reuse.take(&sample, all, &lifetime, now);
    }

    /// The hit ratio by the number of entries; `None` while too little was observed.
    pub fn memory_curve(&self, namespace: &Namespace, now: Timestamp) -> Option<MemoryCurve> {
        self.reuse().curve(&namespace.known_keys(), now)
    }

    /// The share of reads that the cache served over about the last five minutes.
    pub fn measured_hit_ratio(&self) -> Option<f64> {
        self.reuse().measured_hit_ratio()
    }

    /// Advice on lifetimes, from what was observed until now.
    pub fn advice(&self, now: Timestamp) -> Advice {
        self.lifetimes().advice(now)
    }

    /// The current counts.
    pub fn reading(&self) -> CounterReading {
        self.counters.reading()
    }

    /// How many invalidations there were: of keys, tags, and all entries.
    pub fn invalidations(&self) -> u64 {
        self.invalidations.load(Ordering::Relaxed)
    }

    /// Its namespace.
    pub fn namespace(&self) -> NamespaceId {
        self.namespace
    }
}

impl Observer for Statistics {
    fn observe(&self, event: &Event<'_>) {
        self.counters.count(event);
        match event {
            Event::RefillEnded(record) => {
                self.refills.add((*record).clone());
                if let Some(tag) = record.entity_tag {
                    let key = self.hashing.hash_one(&record.key);
                    self.lifetimes().refilled(key, tag, record.at);
                }
            }
            Event::Changed(change)
                if matches!(change.kind, ChangeKind::Delete | ChangeKind::Invalidate) =>
            {
                self.invalidations.fetch_add(1, Ordering::Relaxed);
            }
            Event::Lock(event) => self.locks.add((*event).clone()),
            Event::Damage(record) => self.damage.add((*record).clone()),
            _ => {}
        }
    }
}
