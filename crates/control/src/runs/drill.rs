//! Drills: validated here, run by a [`DrillRunner`] that the demo provides.

use std::sync::Arc;

use verax_api::{DrillRequest, DrillRun, DrillSide, DrillSpec, moment};
use verax_core::access::Scope;
use verax_records::RunState;

use super::lifecycle::{NewLife, RunEnd};
use super::runner::{DrillRunner, DrillSink};
use super::table::{RunOf, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::invalid::InvalidInput;

/// The range of callers in a drill.
pub const CALLERS: std::ops::RangeInclusive<u32> = 2..=1_000;

impl Control {
    /// The drills this node can run, for administrators: none without the demo.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`].
    pub fn drill_specs(&self, caller: &Caller) -> Result<Vec<DrillSpec>, ControlError> {
        caller.needs(Scope::Admin)?;
        Ok(self.drill_runner().map(|runner| runner.drills()).unwrap_or_default())
    }

    /// Starts a drill. One runs at a time: two would disturb each other.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, an unknown drill, a number out of range, or an active drill.
    pub async fn start_drill(
        self: &Arc<Self>,
        caller: &Caller,
        request: &DrillRequest,
    ) -> Result<Arc<Watched<DrillRun>>, ControlError> {
        let specs = self.drill_specs(caller)?;
        let runner = self.drill_runner().ok_or(Conflict::NoDrills)?;
        let spec = specs.iter().find(|spec| spec.name == request.drill).ok_or_else(|| {
            let known = specs.iter().map(|spec| spec.name.clone()).collect();
            InvalidInput::Drill { name: request.drill.clone(), known }
        })?;
        if let Some(callers) = request.callers.filter(|callers| !CALLERS.contains(callers)) {
            return Err(InvalidInput::OutOfRange {
                what: "the number of callers",
                value: callers,
                range: CALLERS,
            }
            .into());
        }
        let slot = self.drill_slot.take().ok_or(Conflict::DrillActive)?;
        let run = DrillRun {
            id: 0,
            drill: spec.clone(),
            state: RunState::Running.name().into(),
            started_at: moment(self.engine.now()),
            sides: Vec::new(),
            conclusion: None,
            reason: None,
        };
        let (of, title, request) = (RunOf::Service, spec.title.clone(), request.clone());
        let detail = serde_json::Value::Null;
        let new = NewLife { of, title, detail, run, slot: Some(slot), of_slot: None, id: None };
        self.start_run(caller, new, move |_, run| async move {
            carry_out(&run, &*runner, &request).await
        })
        .await
    }
}

/// Runs a drill until it ends or is stopped.
async fn carry_out(
    run: &Arc<Watched<DrillRun>>,
    runner: &dyn DrillRunner,
    request: &DrillRequest,
) -> RunEnd<DrillRun> {
    let watched = Arc::clone(run);
    let sink: DrillSink = Arc::new(move |sides: &[DrillSide]| {
        watched.change(|run| run.sides = sides.to_vec());
    });
    let mut stop = run.stop_signal();
    let outcome = tokio::select! {
        outcome = runner.run(request, sink) => outcome,
        _ = stop.wait_for(|stopped| *stopped) => return RunEnd::of(RunState::Stopped),
    };
    match outcome {
        Ok(conclusion) => RunEnd {
            state: RunState::Done,
            change: Box::new(|run| run.conclusion = Some(conclusion)),
        },
        Err(reason) => {
            RunEnd { state: RunState::Failed, change: Box::new(|run| run.reason = Some(reason)) }
        }
    }
}
