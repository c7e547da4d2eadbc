//! Taking over a run of another Verax.

use verax_api::{ExportedRun, LoadRun};
use verax_core::access::{Right, Scope};
use verax_core::load::{MAX_LENGTH, MAX_STAGES};
use verax_records::{NewRun, RunKind, RunState};

use super::place::place_of;
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;

/// The most seconds of a run, with one for each stage that does not end with one.
const MAX_TICKS: usize = MAX_LENGTH.as_secs() as usize + MAX_STAGES * 6;

/// How many samples are recorded together.
const BATCH: usize = 200;

impl Control {
    /// Keeps a run that another Verax exported; in the namespace of its profile, unless another one
    /// is named. It gets a number of this service.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, what is wrong with the run, or the records.
    pub async fn import_load_run(
        &self,
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
        let now = self.engine.now();
        run.id = self.records.start_run(&new, &caller.actor(), now).await?;
        let mut from = 0;
        for batch in ticks.chunks(BATCH) {
            let samples: Vec<_> =
                batch.iter().map(|tick| serde_json::to_value(tick).unwrap_or_default()).collect();
            self.records.keep_samples(run.id, from, &samples).await?;
            from += u32::try_from(batch.len()).unwrap_or(u32::MAX);
        }
        // Only now: one that was cut off stays marked as active, and is marked as interrupted at
        // the next start.
        let result = serde_json::to_value(&run).unwrap_or_default();
        self.records.keep_run(run.id, state, &result, Some(now)).await?;
        run.ticks = ticks;
        Ok(run)
    }
}
