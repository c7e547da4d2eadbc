//! The load run that is active, for what people do to it and around it.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use tokio::sync::watch;
use verax_api::{LoadMark, LoadMarkKind, LoadRun};
use verax_core::load::{LoadProfile, Steering};

use crate::runs::table::Watched;

/// The most marks of a run.
const MAX_MARKS: usize = 500;

/// The active load run, if there is one.
#[derive(Debug, Default)]
pub(crate) struct ActiveLoad(Mutex<Option<Active>>);

#[derive(Debug, Clone)]
pub(super) struct Active {
    pub(super) run: Arc<Watched<LoadRun>>,
    pub(super) profile: Arc<LoadProfile>,
    pub(super) steering: watch::Sender<Steering>,
    /// When its load began; `None` while its generators start.
    pub(super) began: Option<Instant>,
}

/// Ends with the run.
#[derive(Debug)]
pub(super) struct Hold<'c>(&'c ActiveLoad);

impl Drop for Hold<'_> {
    fn drop(&mut self) {
        *self.0.lock() = None;
    }
}

impl ActiveLoad {
    fn lock(&self) -> std::sync::MutexGuard<'_, Option<Active>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Remembers a run until what is returned is dropped.
    pub(super) fn hold(
        &self,
        run: &Arc<Watched<LoadRun>>,
        profile: &LoadProfile,
    ) -> (Hold<'_>, watch::Receiver<Steering>) {
        let (steering, receiver) = watch::channel(Steering::default());
        let (run, profile) = (Arc::clone(run), Arc::new(profile.clone()));
        *self.lock() = Some(Active { run, profile, steering, began: None });
        (Hold(self), receiver)
    }

    /// Its load begins now.
    pub(super) fn begin(&self) {
        if let Some(active) = &mut *self.lock() {
            active.began.get_or_insert_with(Instant::now);
        }
    }

    pub(super) fn get(&self) -> Option<Active> {
        self.lock().clone()
    }
}

impl Active {
    /// Marks this moment on the run's time line.
    pub(super) fn mark(&self, kind: LoadMarkKind, text: String) {
        let at_seconds = self.began.map_or(0.0, |began| began.elapsed().as_secs_f64());
        self.run.change(|run| add_marks(run, [LoadMark { at_seconds, kind, text }]));
    }
}

/// Adds marks to a run; beyond the most that it has, they are dropped.
pub(super) fn add_marks(run: &mut LoadRun, marks: impl IntoIterator<Item = LoadMark>) {
    let room = MAX_MARKS.saturating_sub(run.marks.len());
    run.marks.extend(marks.into_iter().take(room));
    run.marks.sort_by(|a, b| a.at_seconds.total_cmp(&b.at_seconds));
}
