//! Taking over a run of another Verax.

use std::sync::Arc;
use std::time::Duration;

use verax_api::{ExportedRun, LoadRun, LoadTick};
use verax_core::access::{Right, Scope};
use verax_core::load::{MAX_LENGTH, MAX_STAGES};
use verax_records::{NewRun, RunKind, RunState};

use super::place::place_of;
use crate::access::Caller;
use crate::control::Control;
use crate::error::{ControlError, Overload};
use crate::invalid::InvalidInput;

/// The most seconds of a run, with one for each stage that does not end with one.
const MAX_TICKS: usize = MAX_LENGTH.as_secs() as usize + MAX_STAGES * 6;

/// How many samples are recorded together.
const BATCH: usize = 200;

/// How often marking a failed import is tried.
const MARK_EVERY: Duration = Duration::from_secs(1);

/// The most bytes of a second as it is recorded.
const MAX_TICK_BYTES: usize = 60_000;

/// Whether a second can be recorded: it has no more histograms than lanes, and is not too large.
fn is_storable(tick: &LoadTick) -> bool {
    let bytes = serde_json::to_vec(tick).map_or(usize::MAX, |text| text.len());
    tick.histograms.len() <= tick.lanes.len() && bytes <= MAX_TICK_BYTES
}

/// Marks an import as failed, as soon as the records can be written. A service that stops before
/// that marks it as interrupted at its next start.
async fn mark_as_failed(control: Arc<Control>, id: u64, result: serde_json::Value) {
    let mut stopping = control.engine.stopping();
    let marking = async {
        loop {
            let (failed, now) = (RunState::Failed, Some(control.engine.now()));
            if control.records.keep_run(id, failed, &result, now).await.is_ok() {
                return;
            }
            tokio::time::sleep(MARK_EVERY).await;
        }
    };
    tokio::select! {
        () = marking => {}
        _ = stopping.wait_for(|stopping| *stopping) => {}
    }
}

impl Control {
    /// Keeps a run that another Verax exported; in the namespace of its profile, unless another one
    /// is named. It gets a number of this service.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, what is wrong with the run, or the records.
    pub async fn import_load_run(
        self: &Arc<Self>,
        caller: &Caller,
        exported: ExportedRun,
        namespace: Option<&str>,
    ) -> Result<LoadRun, ControlError> {
        if exported.verax_load_run != ExportedRun::VERSION {
            return Err(InvalidInput::ExportVersion(exported.verax_load_run).into());
        }
        let mut run = exported.run;
        let (tenant, name) = place_of(namespace.unwrap_or(&run.profile.namespace))?;
        caller.needs(Scope::within(Right::Load, &tenant, &name))?;
        self.registry.namespace(&tenant, &name)?;
        run.profile.namespace = format!("{tenant}/{name}");
        run.profile.profile().map_err(ControlError::invalid)?;
        let lanes = run.profile.lanes.len();
        let is_whole = run.ticks.iter().all(|tick| tick.lanes.len() == lanes)
            && run.report.as_ref().is_none_or(|report| report.lanes.len() == lanes)
            && run.ticks.len() <= MAX_TICKS
            && run.ticks.iter().all(is_storable)
            && run.state != RunState::Running.name();
        let state = RunState::ENDED.into_iter().find(|state| state.name() == run.state);
        let Some(state) = state.filter(|_| is_whole) else {
            return Err(InvalidInput::DamagedExport.into());
        };
        run.is_imported = true;
        let ticks = std::mem::take(&mut run.ticks);
        let title =
            if run.profile.title.is_empty() { &run.profile.name } else { &run.profile.title };
        let new = NewRun {
            kind: RunKind::Load,
            tenant,
            namespace: name,
            title: title.clone(),
            detail: serde_json::json!({ "profile": run.profile.name, "imported": true }),
            result: serde_json::to_value(&run).unwrap_or_default(),
            slot: None,
        };
        self.needs_confirmed_lease()?;
        run.ticks = ticks;
        // It is kept whole, whether or not its caller waits.
        let (control, actor) = (Arc::clone(self), caller.actor());
        let kept = tokio::spawn(async move {
            run.id = control.records.start_run(&new, &actor, control.engine.now()).await?;
            let kept = control.keep_imported(&run, state).await;
            if kept.is_err() {
                tokio::spawn(mark_as_failed(control, run.id, new.result));
            }
            kept.map(|()| run)
        });
        kept.await.unwrap_or(Err(Overload::RunNotStarted.into()))
    }

    /// Records the seconds of an imported run, then its end.
    async fn keep_imported(&self, run: &LoadRun, state: RunState) -> Result<(), ControlError> {
        let mut from = 0;
        for batch in run.ticks.chunks(BATCH) {
            let samples: Vec<_> =
                batch.iter().map(|tick| serde_json::to_value(tick).unwrap_or_default()).collect();
            self.records.keep_samples(run.id, from, &samples).await?;
            from += u32::try_from(batch.len()).unwrap_or(u32::MAX);
        }
        let result = serde_json::to_value(run.without_ticks()).unwrap_or_default();
        let now = Some(self.engine.now());
        Ok(self.records.keep_run(run.id, state, &result, now).await?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_that_cannot_be_recorded_is_refused() {
        let tick = |bytes: usize, histograms: usize| LoadTick {
            at_seconds: 1.0,
            stage: 0,
            warm_up: false,
            level: 1.0,
            lanes: vec![
                verax_core::load::LaneRecorder::default()
                    .figures(std::time::Duration::from_secs(1), true);
                2
            ],
            machine: Default::default(),
            service: Default::default(),
            histograms: vec!["x".repeat(bytes); histograms],
        };
        let rest = serde_json::to_vec(&tick(0, 1)).unwrap().len();
        assert!(is_storable(&tick(MAX_TICK_BYTES - rest, 1)) && is_storable(&tick(9, 2)));
        assert!(!is_storable(&tick(MAX_TICK_BYTES - rest + 1, 1)) && !is_storable(&tick(9, 3)));
    }
}
