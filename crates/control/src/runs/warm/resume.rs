//! Resuming warm runs after a restart, and changing those that run.

use std::sync::Arc;

use verax_api::{WarmFailure, WarmRun};
use verax_core::access::{Right, Scope};
use verax_engine::Warmer;
use verax_records::{RunKind, RunRecord, RunState};

use super::execute::Execution;
use super::work::WarmWork;
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::runs::lifecycle::NewLife;
use crate::runs::table::{RunOf, RunSignal, Watched};
use crate::subject::Subject;

/// The most failures of a page.
const MAX_PAGE: u32 = 1_000;

impl Control {
    /// Resumes runs that an earlier process left.
    pub(crate) async fn resume_warm_runs(self: &Arc<Self>, runs: Vec<RunRecord>) {
        for record in runs {
            let id = record.id;
            // One that this node ran before it stood by is resumed like any other.
            if self.warm_runs.get(id).is_some_and(|run| !run.has_ended()) {
                continue;
            }
            if let Err(reason) = self.resume_warm_run(&record).await {
                tracing::warn!(run = id, reason, "a warm run was not resumed");
                let mut result = record.result;
                result["reason"] = format!("it could not be resumed: {reason}").into();
                let now = self.engine.now();
                // Left as it is, it is tried again at the next start.
                let _ = self.records.keep_run(id, RunState::Failed, &result, Some(now)).await;
            }
        }
    }

    async fn resume_warm_run(self: &Arc<Self>, record: &RunRecord) -> Result<(), String> {
        let namespace = self.registry.namespace(&record.tenant, &record.namespace);
        let namespace = namespace.map_err(|e| e.to_string())?;
        let kept = self.records.work(record.id).await.map_err(|e| e.to_string())?;
        let work = WarmWork::read(&kept)?;
        let mut run: WarmRun =
            serde_json::from_value(record.result.clone()).map_err(|e| e.to_string())?;
        run.resumed += 1;
        // Bytes of entries that were lost.
        run.bytes = 0;
        let from = (run.position as usize).min(work.keys.len());
        // Keys beyond the position may have been counted, and are refilled once more.
        discount(&mut run, from as u64);
        let of = RunOf::Namespace(Arc::clone(&namespace));
        let (title, detail) = (record.title.clone(), serde_json::json!({}));
        let id = Some(record.id);
        let new = NewLife { of, title, detail, run, slot: None, of_slot: None, id };
        let warmer = Warmer::open(Arc::clone(namespace.namespace()));
        let control = Arc::clone(self);
        let caller = Caller::service("Verax at its start", Vec::new());
        let started = self.start_run(&caller, new, move |id, run| async move {
            Execution::new(control, warmer, work, run, id, from).execute().await
        });
        started.await.map(drop).map_err(|e| e.to_string())
    }

    /// Pauses a warm run after its refills in flight, or lets it go on.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the run.
    pub fn pause_warm_run(
        &self,
        caller: &Caller,
        id: u64,
        paused: bool,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        let run = self.run::<WarmRun>(caller, id)?;
        run.send(if paused { RunSignal::Pause } else { RunSignal::Go });
        Ok(run)
    }

    /// A warm run, of this process or an earlier one.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the run; the records.
    pub async fn warm_run(&self, caller: &Caller, id: u64) -> Result<WarmRun, ControlError> {
        if let Ok(run) = self.run::<WarmRun>(caller, id) {
            return Ok(run.now());
        }
        let unknown = || ControlError::Unknown(Subject::Run(id));
        let record = self.records.run(RunKind::Warm, id).await?.ok_or_else(unknown)?;
        let scope = Scope::within(Right::Warm, &record.tenant, &record.namespace);
        caller.needs(scope).map_err(|_| unknown())?;
        let mut run: WarmRun = serde_json::from_value(record.result).map_err(|_| unknown())?;
        (run.id, run.state) = (id, record.state.name().to_owned());
        Ok(run)
    }

    /// The keys that a warm run could not refill, from a number on.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the run; the records.
    pub async fn warm_failures(
        &self,
        caller: &Caller,
        id: u64,
        from: u32,
        most: u32,
    ) -> Result<Vec<WarmFailure>, ControlError> {
        self.warm_run(caller, id).await?;
        let failures = self.records.failures(id, from, most.min(MAX_PAGE)).await?;
        let failure = |failure: verax_records::RunFailure| WarmFailure {
            key: failure.key,
            reason: failure.reason,
        };
        Ok(failures.into_iter().map(failure).collect())
    }
}

/// Takes what was counted beyond a position out of the counts.
fn discount(run: &mut WarmRun, position: u64) {
    let mut surplus = run.finished().saturating_sub(position);
    for count in [&mut run.stored, &mut run.skipped, &mut run.no_value] {
        let less = surplus.min(*count);
        *count -= less;
        surplus -= less;
    }
}
