//! Ties drills to the demo, which the service does not know.

use std::sync::Arc;

use verax_api::{DrillRequest, DrillSpec};
use verax_control::runs::{DrillRunner, DrillSink, RunningDrill};
use verax_demo::drills::Drills;

/// Runs the demo's drills.
#[derive(Debug)]
pub(super) struct DemoDrills(pub(super) Arc<Drills>);

impl DrillRunner for DemoDrills {
    fn drills(&self) -> Vec<DrillSpec> {
        Drills::specs()
    }

    fn run(&self, request: &DrillRequest, sink: DrillSink) -> RunningDrill {
        let (drills, request) = (Arc::clone(&self.0), request.clone());
        Box::pin(async move {
            drills.run(&request.drill, request.callers, &|sides: &_| sink(sides)).await
        })
    }
}
