//! The runs of this process, each behind a channel with its progress.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use tokio::sync::watch;

use crate::registry::Registered;

/// The maximum number of runs in memory; older ones are in the records.
const KEPT: usize = 50;

/// The subject of a run, which decides who may see and stop it.
#[derive(Debug, Clone)]
pub(crate) enum RunOf {
    /// A namespace: its managers.
    Namespace(Arc<Registered>),
    /// The whole service: administrators.
    Service,
}

/// What people say to a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RunSignal {
    /// It goes on.
    Go,
    /// It pauses.
    Pause,
    /// It ends. Nothing follows this.
    Stop,
}

/// A run that can be watched and stopped.
#[derive(Debug)]
pub struct Watched<R> {
    pub(crate) of: RunOf,
    state: watch::Sender<R>,
    signal: watch::Sender<RunSignal>,
    stop: watch::Sender<bool>,
    ended: watch::Sender<bool>,
    /// How many of its samples are recorded.
    kept_samples: AtomicUsize,
    /// Whether its samples are in the records alone.
    are_samples_away: AtomicBool,
}

impl<R: Clone> Watched<R> {
    /// Its progress.
    pub fn now(&self) -> R {
        self.state.borrow().clone()
    }

    /// What `view` makes of its progress.
    pub(crate) fn view<T>(&self, view: impl FnOnce(&R) -> T) -> T {
        view(&self.state.borrow())
    }

    pub(crate) fn kept_samples(&self) -> usize {
        self.kept_samples.load(Ordering::Acquire)
    }

    pub(crate) fn set_kept_samples(&self, kept: usize) {
        self.kept_samples.store(kept, Ordering::Release);
    }

    /// Leaves its samples to the records; `drop` takes them from its progress.
    pub(crate) fn leave_samples(&self, drop: impl FnOnce(&mut R)) {
        self.are_samples_away.store(true, Ordering::Release);
        // Nothing that a watcher has to know changed.
        self.state.send_if_modified(|run| {
            drop(run);
            false
        });
    }

    /// Whether its samples are in the records alone.
    pub(crate) fn are_samples_away(&self) -> bool {
        self.are_samples_away.load(Ordering::Acquire)
    }

    /// Receives every change; the last one is its end.
    pub fn watch(&self) -> watch::Receiver<R> {
        self.state.subscribe()
    }

    pub(crate) fn change(&self, change: impl FnOnce(&mut R)) {
        self.state.send_modify(change);
    }

    /// It has ended, and recording its end was attempted.
    pub(crate) fn set_ended(&self) {
        self.ended.send_replace(true);
    }

    pub(crate) fn stop(&self) {
        self.send(RunSignal::Stop);
    }

    pub(crate) fn send(&self, signal: RunSignal) {
        self.signal.send_if_modified(|present| {
            let changed = *present != signal && *present != RunSignal::Stop;
            if changed {
                *present = signal;
            }
            changed
        });
        if signal == RunSignal::Stop {
            self.stop.send_replace(true);
        }
    }

    /// Receives what people say to it.
    pub(crate) fn signal(&self) -> watch::Receiver<RunSignal> {
        self.signal.subscribe()
    }

    /// Waits until another run has ended, or this one is stopped.
    pub(crate) async fn wait_for(&self, other: &Self) {
        let (mut ended, mut signal) = (other.ended.subscribe(), self.signal());
        tokio::select! {
            _ = ended.wait_for(|ended| *ended) => {}
            _ = signal.wait_for(|signal| *signal == RunSignal::Stop) => {}
        }
    }

    pub(crate) fn stop_signal(&self) -> watch::Receiver<bool> {
        self.stop.subscribe()
    }
}

impl<R> Watched<R> {
    pub(crate) fn has_ended(&self) -> bool {
        *self.ended.borrow()
    }
}

/// Runs of one kind, by identifier.
#[derive(Debug)]
pub(crate) struct RunTable<R> {
    runs: Mutex<BTreeMap<u64, Arc<Watched<R>>>>,
}

impl<R> Default for RunTable<R> {
    fn default() -> Self {
        Self { runs: Mutex::new(BTreeMap::new()) }
    }
}

impl<R: Clone> RunTable<R> {
    /// Adds a run; one without an identifier gets the next of this process.
    pub(crate) fn add(
        &self,
        id: Option<u64>,
        of: RunOf,
        run: impl FnOnce(u64) -> R,
    ) -> (u64, Arc<Watched<R>>) {
        let mut runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        let id = id.unwrap_or_else(|| runs.keys().next_back().map_or(1, |last| last + 1));
        let watched = Arc::new(Watched {
            of,
            state: watch::Sender::new(run(id)),
            signal: watch::Sender::new(RunSignal::Go),
            stop: watch::Sender::new(false),
            ended: watch::Sender::new(false),
            kept_samples: AtomicUsize::new(0),
            are_samples_away: AtomicBool::new(false),
        });
        runs.insert(id, Arc::clone(&watched));
        // Active runs are always kept: they can be seen and stopped no matter how many started
        // after them.
        let ended = runs.iter().filter(|(_, run)| run.has_ended()).map(|(id, _)| *id);
        let surplus = runs.len().saturating_sub(KEPT);
        for old in ended.take(surplus).collect::<Vec<_>>() {
            runs.remove(&old);
        }
        (id, watched)
    }

    /// All runs, newest first.
    pub(crate) fn all(&self) -> Vec<(u64, Arc<Watched<R>>)> {
        let runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        runs.iter().rev().map(|(id, run)| (*id, Arc::clone(run))).collect()
    }

    /// The largest run identifier.
    pub(crate) fn latest(&self) -> u64 {
        let runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        runs.keys().next_back().copied().unwrap_or(0)
    }

    /// Waits until every run has ended and is recorded.
    pub(crate) async fn all_ended(&self) {
        for (_, run) in self.all() {
            let mut ended = run.ended.subscribe();
            let _ = ended.wait_for(|ended| *ended).await;
        }
    }

    pub(crate) fn get(&self, id: u64) -> Option<Arc<Watched<R>>> {
        self.runs.lock().unwrap_or_else(PoisonError::into_inner).get(&id).cloned()
    }

    pub(crate) fn stop_all(&self) {
        let runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        runs.values().for_each(|run| run.stop());
    }
}
