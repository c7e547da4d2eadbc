//! What all runs have in common: they are written down when they start, while they are under way,
//! and when they end; they are listed from then on, whatever becomes of the process.

use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use verax_api::{LoadRun, WarmRun};
use verax_core::access::Right;
use verax_records::{NewRun, RunKind, RunRecord, RunState};

use super::table::{RunTable, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::registry::Registered;

/// How often what a run has come to is written down, so that little is lost with the process.
const KEEP_EVERY: Duration = Duration::from_secs(5);

/// How many runs are listed.
const MAX_LISTED: u32 = 50;

/// A kind of run.
pub(crate) trait Run: Clone + Serialize + DeserializeOwned + Send + Sync + 'static {
    /// Which.
    const KIND: RunKind;

    /// The runs of this kind that the process knows.
    fn table(control: &Control) -> &RunTable<Self>;

    /// Its identity and state, to be set.
    fn identify(&mut self, id: u64, state: RunState);
}

impl Run for WarmRun {
    const KIND: RunKind = RunKind::Warm;

    fn table(control: &Control) -> &RunTable<Self> {
        &control.warm_runs
    }

    fn identify(&mut self, id: u64, state: RunState) {
        (self.id, self.state) = (id, state.name().into());
    }
}

impl Run for LoadRun {
    const KIND: RunKind = RunKind::Load;

    fn table(control: &Control) -> &RunTable<Self> {
        &control.load_runs
    }

    fn identify(&mut self, id: u64, state: RunState) {
        (self.id, self.state) = (id, state.name().into());
        if state == RunState::Interrupted && self.reason.is_none() {
            self.reason = Some("the service stopped before the run had ended".into());
        }
    }
}

impl Control {
    /// Writes down that a run starts, and makes it known.
    pub(super) async fn begin_run<R: Run>(
        &self,
        caller: &Caller,
        namespace: Arc<Registered>,
        (title, detail): (&str, serde_json::Value),
        mut run: R,
    ) -> Result<(u64, Arc<Watched<R>>), ControlError> {
        self.needs_confirmed_lease()?;
        let new = NewRun {
            kind: R::KIND,
            tenant: namespace.tenant().clone(),
            namespace: namespace.name().clone(),
            title: title.to_owned(),
            detail,
            result: serde_json::to_value(&run).unwrap_or_default(),
        };
        let id = self.records.start_run(&new, &caller.actor(), self.engine.now()).await?;
        run.identify(id, RunState::Running);
        Ok((id, R::table(self).add(id, namespace, run)))
    }

    /// Drives a run to its end, and writes down from time to time how far it is.
    pub(super) async fn drive<R: Run, T>(
        &self,
        id: u64,
        run: &Watched<R>,
        work: impl Future<Output = T>,
    ) -> T {
        tokio::pin!(work);
        let mut ticks = tokio::time::interval(KEEP_EVERY);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        ticks.tick().await;
        loop {
            tokio::select! {
                done = &mut work => return done,
                _ = ticks.tick() => {}
            }
            let so_far = serde_json::to_value(run.now()).unwrap_or_default();
            let keeping = self.records.keep_run(id, RunState::Running, &so_far, None);
            tokio::select! {
                done = &mut work => return done,
                // The next tick tries again.
                _ = keeping => {}
            }
        }
    }

    /// Writes down how a run ended. It is told after that, so that whoever sees the end can look it
    /// up.
    pub(super) async fn finish_run<R: Run>(
        &self,
        id: u64,
        run: &Watched<R>,
        ended: RunState,
        finish: impl FnOnce(&mut R),
    ) {
        let stopped = *self.engine.stopping().borrow();
        let ended =
            if stopped && ended == RunState::Stopped { RunState::Interrupted } else { ended };
        let mut last = run.now();
        finish(&mut last);
        last.identify(id, ended);
        let result = serde_json::to_value(&last).unwrap_or_default();
        let now = self.engine.now();
        if let Err(error) = self.records.keep_run(id, ended, &result, Some(now)).await {
            tracing::warn!(%error, run = id, "the end of a run is missing in the records");
        }
        run.change(|state| *state = last);
        run.set_ended();
    }

    /// The latest runs of a kind that the caller manages, newest first: all that are under way, and
    /// those of earlier processes too while the records answer.
    pub(super) async fn recent_runs<R: Run>(&self, caller: &Caller) -> Vec<R> {
        let manages =
            |tenant: &_, name: &_| caller.needs_within(Right::Manage, tenant, name).is_ok();
        let known: Vec<(u64, R)> = R::table(self)
            .all()
            .into_iter()
            .filter(|(_, run)| manages(run.namespace.tenant(), run.namespace.name()))
            .map(|(id, run)| (id, run.now()))
            .collect();
        let rows = self.records.runs(R::KIND, MAX_LISTED).await.unwrap_or_default();
        let earlier = |row: RunRecord| {
            if known.iter().any(|(id, _)| *id == row.id) || !manages(&row.tenant, &row.namespace) {
                return None;
            }
            let mut run: R = serde_json::from_value(row.result).ok()?;
            run.identify(row.id, row.state);
            Some((row.id, run))
        };
        let earlier: Vec<(u64, R)> = rows.into_iter().filter_map(earlier).collect();
        let mut all: Vec<(u64, R)> = known.iter().cloned().chain(earlier).collect();
        all.sort_by_key(|(id, _)| std::cmp::Reverse(*id));
        all.into_iter().map(|(_, run)| run).collect()
    }

    /// Waits until the runs that were told to stop have ended and are written down.
    pub async fn runs_ended(&self) {
        self.warm_runs.all_ended().await;
        self.load_runs.all_ended().await;
    }
}
