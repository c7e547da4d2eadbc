//! The observers of namespaces.

use std::sync::Arc;

use verax_core::NamespaceId;
use verax_engine::events::{DamageRecord, Event, LockEvent, Observer, RefillRecord};

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
            refills: Arc::clone(&self.refills),
            locks: Arc::clone(&self.locks),
            damage: Arc::clone(&self.damage),
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
    refills: Arc<Recent<RefillRecord>>,
    locks: Arc<Recent<LockEvent>>,
    damage: Arc<Recent<DamageRecord>>,
}

impl Statistics {
    /// The current counts.
    pub fn reading(&self) -> CounterReading {
        self.counters.reading()
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
            Event::RefillEnded(record) => self.refills.add((*record).clone()),
            Event::Lock(event) => self.locks.add((*event).clone()),
            Event::Damage(record) => self.damage.add((*record).clone()),
            _ => {}
        }
    }
}
