//! Drills: remembered here, carried out by a [`DrillRunner`], which the demo brings.

use std::collections::BTreeMap;
use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use tokio::sync::watch;
use verax_api::{DrillRequest, DrillRun, DrillSide, DrillSpec, moment};
use verax_core::access::Scope;

use crate::access::Caller;
use crate::control::Control;
use crate::error::{ControlError, Subject};

/// How many drills are remembered.
const KEPT: usize = 20;

/// The callers that may take part in a drill.
pub const CALLERS: std::ops::RangeInclusive<u32> = 2..=1_000;

/// Is told of the sides of a drill whenever they change.
pub type DrillSink = Arc<dyn Fn(&[DrillSide]) + Send + Sync>;

/// A drill under way; it ends with what it shows, in a sentence, or with why it could not be run.
pub type RunningDrill = Pin<Box<dyn Future<Output = Result<String, String>> + Send>>;

/// Carries drills out.
pub trait DrillRunner: fmt::Debug + Send + Sync {
    /// The drills that there are.
    fn drills(&self) -> Vec<DrillSpec>;

    /// Runs one of them.
    fn run(&self, request: &DrillRequest, sink: DrillSink) -> RunningDrill;
}

/// The drills that this process has run.
#[derive(Debug, Default)]
pub(crate) struct Drills {
    runner: OnceLock<Arc<dyn DrillRunner>>,
    running: Arc<AtomicBool>,
    runs: Mutex<BTreeMap<u64, watch::Sender<DrillRun>>>,
}

/// Frees the one place for a drill when it is over, however it ends.
struct RunSlot(Arc<AtomicBool>);

impl Drop for RunSlot {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Release);
    }
}

impl Drills {
    fn runs(&self) -> MutexGuard<'_, BTreeMap<u64, watch::Sender<DrillRun>>> {
        self.runs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self, id: u64, change: impl FnOnce(&mut DrillRun)) {
        if let Some(run) = self.runs().get(&id) {
            run.send_modify(change);
        }
    }
}

impl Control {
    /// Sets what carries drills out; only the first call counts.
    pub fn set_drill_runner(&self, runner: Arc<dyn DrillRunner>) {
        let _ = self.drills.runner.set(runner);
    }

    /// The drills that can be run here, for administrators: none without the demo.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`].
    pub fn drill_specs(&self, caller: &Caller) -> Result<Vec<DrillSpec>, ControlError> {
        caller.needs(Scope::Admin)?;
        Ok(self.drills.runner.get().map(|runner| runner.drills()).unwrap_or_default())
    }

    /// Starts a drill. One runs at a time, since two would disturb each other.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, an unknown drill, a number out of range, or one under way.
    pub fn start_drill(
        self: &Arc<Self>,
        caller: &Caller,
        request: &DrillRequest,
    ) -> Result<DrillRun, ControlError> {
        let specs = self.drill_specs(caller)?;
        let runner = self.drills.runner.get().ok_or_else(|| {
            ControlError::Conflict("drills run on the demo: start one with `verax demo`".into())
        })?;
        let spec = specs.iter().find(|spec| spec.name == request.drill).ok_or_else(|| {
            let names: Vec<&str> = specs.iter().map(|spec| spec.name.as_str()).collect();
            ControlError::Invalid(format!(
                "there is no drill {:?}; there are {}",
                request.drill,
                names.join(", ")
            ))
        })?;
        if let Some(callers) = request.callers.filter(|callers| !CALLERS.contains(callers)) {
            return Err(ControlError::Invalid(format!(
                "{callers} callers are out of range: use {} to {}",
                CALLERS.start(),
                CALLERS.end()
            )));
        }
        if self.drills.running.swap(true, Ordering::AcqRel) {
            return Err(ControlError::Conflict(
                "a drill is under way already: wait for its end".into(),
            ));
        }
        let place = RunSlot(Arc::clone(&self.drills.running));
        let id = self.drills.runs().keys().next_back().map_or(1, |last| last + 1);
        let run = DrillRun {
            id,
            drill: spec.clone(),
            state: "running".into(),
            started_at: moment(self.engine.now()),
            sides: Vec::new(),
            conclusion: None,
            reason: None,
        };
        let mut runs = self.drills.runs();
        runs.insert(id, watch::Sender::new(run.clone()));
        if runs.len() > KEPT {
            runs.pop_first();
        }
        drop(runs);
        let control = Arc::clone(self);
        let told = Arc::clone(self);
        let sink: DrillSink = Arc::new(move |sides: &[DrillSide]| {
            told.drills.change(id, |run| run.sides = sides.to_vec());
        });
        let running = runner.run(request, sink);
        tokio::spawn(async move {
            let mut stopping = control.engine.stopping();
            let outcome = tokio::select! {
                outcome = running => outcome,
                _ = stopping.wait_for(|stopping| *stopping) => Err("the service stopped".into()),
            };
            drop(place);
            control.drills.change(id, |run| match outcome {
                Ok(conclusion) => {
                    (run.state, run.conclusion) = ("done".into(), Some(conclusion));
                }
                Err(reason) => (run.state, run.reason) = ("failed".into(), Some(reason)),
            });
        });
        Ok(run)
    }

    /// A drill of this process, to be watched.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the run.
    pub fn drill_run(
        &self,
        caller: &Caller,
        id: u64,
    ) -> Result<watch::Receiver<DrillRun>, ControlError> {
        caller.needs(Scope::Admin)?;
        let runs = self.drills.runs();
        runs.get(&id).map(watch::Sender::subscribe).ok_or(ControlError::Unknown(Subject::Run(id)))
    }

    /// The drills of this process, newest first.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`].
    pub fn recent_drills(&self, caller: &Caller) -> Result<Vec<DrillRun>, ControlError> {
        caller.needs(Scope::Admin)?;
        Ok(self.drills.runs().values().rev().map(|run| run.borrow().clone()).collect())
    }
}
