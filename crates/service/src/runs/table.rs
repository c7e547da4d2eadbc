//! The runs that this process knows, each behind a channel that tells of its progress.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use tokio::sync::watch;

use crate::namespace::Namespace;

/// How many runs are kept in memory; older ones are in the records.
const KEPT: usize = 50;

/// A run that can be watched and stopped.
#[derive(Debug)]
pub struct Watched<R> {
    pub(crate) namespace: Arc<Namespace>,
    state: watch::Sender<R>,
    stop: watch::Sender<bool>,
}

impl<R: Clone> Watched<R> {
    /// How far it is.
    pub fn now(&self) -> R {
        self.state.borrow().clone()
    }

    /// Tells of every change; the last one is its end.
    pub fn watch(&self) -> watch::Receiver<R> {
        self.state.subscribe()
    }

    pub(crate) fn change(&self, change: impl FnOnce(&mut R)) {
        self.state.send_modify(change);
    }

    pub(crate) fn stop(&self) {
        self.stop.send_replace(true);
    }

    pub(crate) fn stop_signal(&self) -> watch::Receiver<bool> {
        self.stop.subscribe()
    }
}

/// Runs of one kind, by identity.
#[derive(Debug)]
pub(crate) struct RunTable<R> {
    runs: Mutex<BTreeMap<u64, Arc<Watched<R>>>>,
}

impl<R> Default for RunTable<R> {
    fn default() -> Self {
        Self { runs: Mutex::new(BTreeMap::new()) }
    }
}

impl<R> RunTable<R> {
    pub(crate) fn add(&self, id: u64, namespace: Arc<Namespace>, run: R) -> Arc<Watched<R>> {
        let watched = Arc::new(Watched {
            namespace,
            state: watch::Sender::new(run),
            stop: watch::Sender::new(false),
        });
        let mut runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        runs.insert(id, Arc::clone(&watched));
        if runs.len() > KEPT {
            runs.pop_first();
        }
        watched
    }

    pub(crate) fn get(&self, id: u64) -> Option<Arc<Watched<R>>> {
        self.runs.lock().unwrap_or_else(PoisonError::into_inner).get(&id).cloned()
    }

    pub(crate) fn stop_all(&self) {
        let runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        for run in runs.values() {
            run.stop.send_replace(true);
        }
    }
}
