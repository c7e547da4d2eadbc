//! The latest refills: who held the permit, what became of it, and who waited for how long.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use verax_core::{Key, NamespaceId, Timestamp};

use super::waiter::Waited;
use crate::namespace::Namespace;
use crate::service::Service;

/// How many are remembered, for all namespaces together.
const MOST: usize = 1_000;

/// What became of a refill.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RefillOutcome {
    /// The value was stored.
    Stored = 0,
    /// There was a value, which was not to be stored or did not fit.
    NotStored,
    /// There was no value, since something failed.
    Failed,
    /// The key was invalidated or written meanwhile: the value was refused.
    Voided,
    /// The permit's time was over.
    Lapsed,
    /// The origin has no such value.
    NoValue,
}

impl RefillOutcome {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Stored, Self::NotStored, Self::Failed, Self::Voided, Self::Lapsed, Self::NoValue];

    /// A stable short name, for programs.
    pub fn name(self) -> &'static str {
        match self {
            Self::Stored => "stored",
            Self::NotStored => "not-stored",
            Self::Failed => "failed",
            Self::Voided => "voided",
            Self::Lapsed => "lapsed",
            Self::NoValue => "no-value",
        }
    }
}

/// A refill that has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefillRecord {
    /// When it ended.
    pub at: Timestamp,
    /// The namespace.
    pub namespace: NamespaceId,
    /// The key.
    pub key: Key,
    /// Who held the permit.
    pub holder: String,
    /// How long.
    pub took: Duration,
    /// What became of it.
    pub outcome: RefillOutcome,
    /// How many callers waited for it.
    pub waiters: usize,
    /// How long the one that waited longest did.
    pub longest_wait: Duration,
}

/// The latest refills.
#[derive(Debug, Default)]
pub(crate) struct Trace(Mutex<VecDeque<RefillRecord>>);

impl Trace {
    fn records(&self) -> MutexGuard<'_, VecDeque<RefillRecord>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn add(&self, record: RefillRecord) {
        let mut records = self.records();
        if records.len() == MOST {
            records.pop_back();
        }
        records.push_front(record);
    }

    /// The latest refills of the namespaces that `which` knows, newest first.
    pub(crate) fn latest<N>(
        &self,
        which: impl Fn(NamespaceId) -> Option<N>,
        most: usize,
    ) -> Vec<(N, RefillRecord)> {
        let records = self.records();
        let known = records.iter().filter_map(|record| Some((which(record.namespace)?, record)));
        known.take(most).map(|(namespace, record)| (namespace, record.clone())).collect()
    }

    pub(super) fn of(&self, namespace: NamespaceId) -> Vec<RefillRecord> {
        self.records().iter().filter(|record| record.namespace == namespace).cloned().collect()
    }
}

impl Service {
    /// Counts a refill of a key that has ended at `at`, and keeps it among the latest.
    pub(super) fn refill_ended(
        &self,
        (namespace, key): (&Namespace, &Key),
        holder: impl Into<String>,
        took: Duration,
        outcome: RefillOutcome,
        waited: Waited,
        at: Timestamp,
    ) {
        namespace.counters().count_refill(outcome, took);
        self.cache.trace.add(RefillRecord {
            at,
            namespace: namespace.id(),
            key: key.clone(),
            holder: holder.into(),
            took,
            outcome,
            waiters: waited.callers,
            longest_wait: waited.longest,
        });
    }
}
