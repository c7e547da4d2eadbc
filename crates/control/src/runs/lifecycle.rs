//! The lifecycle of every kind of run: it takes its slot, is recorded, runs in a task of its own,
//! reports progress, and ends. However it ends, even by a panic, its end is recorded and its slot
//! and token are released.

use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use verax_api::{DrillRun, LoadRun, LoadTick, TrafficRecording, WarmRun};
use verax_core::Timestamp;
use verax_core::access::{Right, Scope};
use verax_records::{NewRun, RecordsError, RunKind, RunRecord, RunState};

use super::slot::RunSlot;
use super::table::{RunOf, RunTable, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::{ControlError, Overload};
use crate::subject::Subject;

/// How often a run's progress is recorded, so that little is lost with the process.
const KEEP_EVERY: Duration = Duration::from_secs(1);

/// How many runs are listed.
const MAX_LISTED: u32 = 50;

/// How many samples are recorded together.
const MAX_SAMPLES: usize = 200;

/// The samples of a run: what it measured from time to time. They are kept apart from its result,
/// which is written anew again and again, and are sent to watchers once each.
pub trait Sampled: Clone {
    /// Whether anybody looks at them after its end, as its process has them at hand.
    #[doc(hidden)]
    const ARE_SAMPLES_SHOWN: bool = true;

    /// How many there are.
    fn sample_count(&self) -> usize {
        0
    }

    /// Those from a number on, as they are recorded.
    #[doc(hidden)]
    fn samples_from(&self, _number: usize) -> Vec<Value> {
        Vec::new()
    }

    /// The run with its samples from a number on.
    fn since_sample(&self, _number: usize) -> Self {
        self.clone()
    }

    /// The run without its samples.
    #[doc(hidden)]
    fn without_samples(&self) -> Self {
        self.clone()
    }
}

impl Sampled for WarmRun {}

impl Sampled for DrillRun {}

impl Sampled for LoadRun {
    fn sample_count(&self) -> usize {
        self.ticks.len()
    }

    fn samples_from(&self, number: usize) -> Vec<Value> {
        let ticks = self.ticks.get(number..).unwrap_or_default().iter();
        ticks.take(MAX_SAMPLES).map(|tick| serde_json::to_value(tick).unwrap_or_default()).collect()
    }

    fn since_sample(&self, number: usize) -> Self {
        self.since_tick(number)
    }

    fn without_samples(&self) -> Self {
        self.without_ticks()
    }
}

impl Sampled for TrafficRecording {
    const ARE_SAMPLES_SHOWN: bool = false;

    fn sample_count(&self) -> usize {
        self.parts.len()
    }

    fn samples_from(&self, number: usize) -> Vec<Value> {
        let parts = self.parts.get(number..).unwrap_or_default().iter();
        parts.take(MAX_SAMPLES).map(|part| serde_json::to_value(part).unwrap_or_default()).collect()
    }

    // Watchers see how much there is, not what it is.
    fn since_sample(&self, _number: usize) -> Self {
        self.without_parts()
    }

    fn without_samples(&self) -> Self {
        self.without_parts()
    }
}

/// A kind of run.
pub trait Run: Sampled + Serialize + DeserializeOwned + Send + Sync + 'static {
    /// Its record; `None` for a kind that only its process remembers.
    #[doc(hidden)]
    const KIND: Option<RunKind>;

    /// Whether the next process resumes it.
    #[doc(hidden)]
    const IS_RESUMED: bool;

    /// The right that starting, watching and stopping it needs in its namespace.
    #[doc(hidden)]
    const RIGHT: Right;

    /// The runs of this kind that the process knows.
    #[doc(hidden)]
    #[allow(private_interfaces)]
    fn table(control: &Control) -> &RunTable<Self>;

    /// Sets its identifier and state.
    #[doc(hidden)]
    fn identify(&mut self, id: u64, state: RunState);

    /// Sets why it failed.
    #[doc(hidden)]
    fn fail(&mut self, reason: String);

    /// Whether it is still active.
    fn is_running(&self) -> bool;
}

const INTERRUPTED: &str = "the service stopped before the run had ended";

macro_rules! runs {
    ($($Run:ident: $table:ident, $kind:expr, $resumed:expr, $right:expr, |$run:ident, $reason:ident| $fail:expr;)+) => {$(
        impl Run for $Run {
            const KIND: Option<RunKind> = $kind;
            const IS_RESUMED: bool = $resumed;
            const RIGHT: Right = $right;

            #[allow(private_interfaces)]
            fn table(control: &Control) -> &RunTable<Self> {
                &control.$table
            }

            fn identify(&mut self, id: u64, state: RunState) {
                (self.id, self.state) = (id, state.name().into());
                if state == RunState::Interrupted {
                    self.fail(INTERRUPTED.into());
                }
            }

            fn fail(&mut self, $reason: String) {
                let $run = self;
                $fail
            }

            fn is_running(&self) -> bool {
                self.state == RunState::Running.name()
            }
        }
    )+};
}

runs! {
    WarmRun: warm_runs, Some(RunKind::Warm), true, Right::Warm, |run, reason| {
        run.reason.get_or_insert(reason);
    };
    LoadRun: load_runs, Some(RunKind::Load), false, Right::Load, |run, reason| {
        run.reason.get_or_insert(reason);
    };
    TrafficRecording: recordings, Some(RunKind::Recording), false, Right::Load, |run, reason| {
        run.reason.get_or_insert(reason);
    };
    // Drills are of the service, so only administrators start them.
    DrillRun: drill_runs, None, false, Right::Manage, |run, reason| {
        run.reason.get_or_insert(reason);
    };
}

/// A run to start.
pub(super) struct NewLife<R> {
    pub(super) of: RunOf,
    pub(super) title: String,
    pub(super) detail: serde_json::Value,
    pub(super) run: R,
    /// The slot of its kind, if only one may run at a time.
    pub(super) slot: Option<RunSlot>,
    /// The slot of a schedule that it is for, by the schedule's identifier.
    pub(super) of_slot: Option<(u64, Timestamp)>,
    /// Its identifier, if it is resumed.
    pub(super) id: Option<u64>,
}

/// How a run ended, and its final state.
pub(super) struct RunEnd<R> {
    pub(super) state: RunState,
    pub(super) change: Box<dyn FnOnce(&mut R) + Send>,
}

impl<R> RunEnd<R> {
    pub(super) fn of(state: RunState) -> Self {
        Self { state, change: Box::new(|_| {}) }
    }
}

impl Control {
    /// Starts a run: once recorded it runs to its end, whether or not its caller waits. `work` runs
    /// it once its identifier is known.
    ///
    /// # Errors
    /// [`ControlError`]: the records.
    pub(super) async fn start_run<R, W>(
        self: &Arc<Self>,
        caller: &Caller,
        mut new: NewLife<R>,
        work: impl FnOnce(u64, Arc<Watched<R>>) -> W + Send + 'static,
    ) -> Result<Arc<Watched<R>>, ControlError>
    where
        R: Run,
        W: Future<Output = RunEnd<R>> + Send,
    {
        let (control, caller) = (Arc::clone(self), caller.clone());
        let started = tokio::spawn(async move {
            let slot = new.slot.take();
            let (id, watched) = control.begin_run(&caller, new).await?;
            let run = Arc::clone(&watched);
            tokio::spawn(async move {
                let work = AssertUnwindSafe(async { work(id, Arc::clone(&run)).await });
                let ended = control.drive(id, &run, work.catch_unwind()).await;
                let ended = ended.unwrap_or_else(|_| {
                    tracing::error!(run = id, "a run panicked");
                    RunEnd {
                        state: RunState::Failed,
                        change: Box::new(|run| run.fail("the run failed inside Verax".into())),
                    }
                });
                drop(slot);
                control.finish_run(id, &run, ended).await;
            });
            Ok(watched)
        });
        started.await.unwrap_or(Err(Overload::RunNotStarted.into()))
    }

    /// Records the start of a run, and adds it to the table.
    async fn begin_run<R: Run>(
        &self,
        caller: &Caller,
        new: NewLife<R>,
    ) -> Result<(u64, Arc<Watched<R>>), ControlError> {
        let NewLife { of, title, detail, mut run, of_slot, id, .. } = new;
        let id = match (R::KIND, &of) {
            (Some(_), _) if id.is_some() => id,
            (Some(kind), RunOf::Namespace(namespace)) => {
                self.needs_confirmed_lease()?;
                let new = NewRun {
                    kind,
                    tenant: namespace.tenant().clone(),
                    namespace: namespace.name().clone(),
                    title,
                    detail,
                    result: serde_json::to_value(&run).unwrap_or_default(),
                    slot: of_slot,
                };
                Some(self.records.start_run(&new, &caller.actor(), self.engine.now()).await?)
            }
            _ => None,
        };
        Self::leave_recorded_samples(R::table(self));
        Ok(R::table(self).add(id, of, |id| {
            run.identify(id, RunState::Running);
            run
        }))
    }

    /// Leaves the samples of ended runs to the records, if all of them are there: a process that
    /// runs long does not collect them.
    fn leave_recorded_samples<R: Run>(table: &RunTable<R>) {
        for (_, run) in table.all() {
            let samples = run.view(R::sample_count);
            if run.has_ended() && samples > 0 && run.kept_samples() == samples {
                run.leave_samples(|run| *run = run.without_samples());
            }
        }
    }

    /// Drives a run to its end, and records its progress from time to time.
    async fn drive<R: Run, T>(
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
                _ = ticks.tick(), if R::KIND.is_some() => {}
            }
            let so_far = serde_json::to_value(run.view(R::without_samples)).unwrap_or_default();
            let keeping = async {
                // Both are retried at the next tick.
                let _ = self.records.keep_run(id, RunState::Running, &so_far, None).await;
                let _ = self.keep_samples(id, run).await;
            };
            tokio::select! {
                done = &mut work => return done,
                () = keeping => {}
            }
        }
    }

    /// Records the samples of a run that are not recorded yet.
    async fn keep_samples<R: Run>(&self, id: u64, run: &Watched<R>) -> Result<(), RecordsError> {
        loop {
            let kept = run.kept_samples();
            let samples = run.view(|run| run.samples_from(kept));
            if samples.is_empty() {
                return Ok(());
            }
            let from = u32::try_from(kept).unwrap_or(u32::MAX);
            self.records.keep_samples(id, from, &samples).await?;
            run.set_kept_samples(kept + samples.len());
        }
    }

    /// Records how a run ended. Watchers are notified afterwards, so that a run seen to end can be
    /// looked up.
    async fn finish_run<R: Run>(&self, id: u64, run: &Watched<R>, ended: RunEnd<R>) {
        let stopped = *self.engine.stopping().borrow();
        let state = match ended.state {
            RunState::Stopped if stopped => RunState::Interrupted,
            state => state,
        };
        let mut last = run.now();
        (ended.change)(&mut last);
        last.identify(id, state);
        if R::KIND.is_some() {
            if let Err(error) = self.keep_samples(id, run).await {
                tracing::warn!(%error, run = id, "the last samples of a run are missing in the records");
            }
            let result = serde_json::to_value(last.without_samples()).unwrap_or_default();
            // One that the next process resumes does not end here.
            let (kept, ended_at) = match state == RunState::Interrupted && R::IS_RESUMED {
                true => (RunState::Running, None),
                false => (state, Some(self.engine.now())),
            };
            if let Err(error) = self.records.keep_run(id, kept, &result, ended_at).await {
                tracing::warn!(%error, run = id, "the end of a run is missing in the records");
            }
        }
        run.change(|state| *state = last);
        run.set_ended();
        if !R::ARE_SAMPLES_SHOWN {
            Self::leave_recorded_samples(R::table(self));
        }
    }

    /// Whether a caller may see and stop runs of this subject.
    fn may_run<R: Run>(caller: &Caller, of: &RunOf) -> bool {
        match of {
            RunOf::Service => caller.needs(Scope::Admin).is_ok(),
            RunOf::Namespace(namespace) => {
                caller.needs_within(R::RIGHT, namespace.tenant(), namespace.name()).is_ok()
            }
        }
    }

    /// Gets a run of this process.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the run.
    pub fn run<R: Run>(&self, caller: &Caller, id: u64) -> Result<Arc<Watched<R>>, ControlError> {
        let run = R::table(self).get(id).filter(|run| Self::may_run::<R>(caller, &run.of));
        run.ok_or(ControlError::Unknown(Subject::Run(id)))
    }

    /// A load run of this process or an earlier one, with its samples.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the run, and the records.
    pub async fn load_run(&self, caller: &Caller, id: u64) -> Result<LoadRun, ControlError> {
        if let Ok(run) = self.run::<LoadRun>(caller, id) {
            // In this order: the samples may be dropped meanwhile.
            let (now, are_samples_away) = (run.now(), run.are_samples_away());
            return match are_samples_away {
                true => Ok(LoadRun { ticks: self.recorded_ticks(id).await?, ..now }),
                false => Ok(now),
            };
        }
        let unknown = || ControlError::Unknown(Subject::Run(id));
        let row = self.records.run(RunKind::Load, id).await?.ok_or_else(unknown)?;
        caller.needs_within(Right::Load, &row.tenant, &row.namespace).map_err(|_| unknown())?;
        let mut run: LoadRun = serde_json::from_value(row.result).map_err(|_| unknown())?;
        run.identify(row.id, row.state);
        run.ticks = self.recorded_ticks(id).await?;
        Ok(run)
    }

    /// A recording of this process or an earlier one.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it, and the records.
    pub async fn recording(
        &self,
        caller: &Caller,
        id: u64,
    ) -> Result<TrafficRecording, ControlError> {
        if let Ok(run) = self.run::<TrafficRecording>(caller, id) {
            return Ok(run.view(TrafficRecording::without_parts));
        }
        let unknown = || ControlError::Unknown(Subject::Recording(id));
        let row = self.records.run(RunKind::Recording, id).await?.ok_or_else(unknown)?;
        caller.needs_within(Right::Load, &row.tenant, &row.namespace).map_err(|_| unknown())?;
        let mut run: TrafficRecording =
            serde_json::from_value(row.result).map_err(|_| unknown())?;
        run.identify(row.id, row.state);
        Ok(run)
    }

    async fn recorded_ticks(&self, id: u64) -> Result<Vec<LoadTick>, ControlError> {
        let samples = self.records.samples(id, 0, u32::MAX).await?;
        Ok(samples.into_iter().filter_map(|s| serde_json::from_value(s).ok()).collect())
    }

    /// Ends a run early; its results so far stay.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the run.
    pub fn stop_run<R: Run>(&self, caller: &Caller, id: u64) -> Result<(), ControlError> {
        self.run::<R>(caller, id)?.stop();
        Ok(())
    }

    /// The latest runs of a kind that the caller may start, newest first: all active ones, and
    /// those of earlier processes while the records are available.
    pub async fn recent_runs<R: Run>(&self, caller: &Caller) -> Vec<R> {
        let known: Vec<(u64, R)> = R::table(self)
            .all()
            .into_iter()
            .filter(|(_, run)| Self::may_run::<R>(caller, &run.of))
            .map(|(id, run)| (id, run.view(R::without_samples)))
            .collect();
        let rows = match R::KIND {
            Some(kind) => self.records.runs(kind, MAX_LISTED).await.unwrap_or_default(),
            None => Vec::new(),
        };
        let earlier = |row: RunRecord| {
            let may_run = caller.needs_within(R::RIGHT, &row.tenant, &row.namespace).is_ok();
            if known.iter().any(|(id, _)| *id == row.id) || !may_run {
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

    /// Waits until stopped runs have ended and are recorded.
    pub async fn runs_ended(&self) {
        self.warm_runs.all_ended().await;
        self.load_runs.all_ended().await;
        self.recordings.all_ended().await;
        self.drill_runs.all_ended().await;
    }
}
