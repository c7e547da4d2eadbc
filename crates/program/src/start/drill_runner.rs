//! Ties drills and the stand-in to the demo, which the service does not know.

use std::sync::Arc;

use verax_api::{DrillRequest, DrillSpec, StandIn, StandInChange};
use verax_control::runs::{DrillRunner, DrillSink, RunningDrill, StandInHandle};
use verax_demo::drills::Drills;
use verax_demo::stand_in::{FaultSettings, Standin};

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

/// The stand-in origin of the demo.
#[derive(Debug)]
pub(super) struct DemoStandIn(pub(super) Arc<Standin>);

fn to_api(faults: FaultSettings) -> StandIn {
    let FaultSettings { extra_latency_ms, concurrency_limit, error_rate, outage } = faults;
    StandIn { extra_latency_ms, concurrency_limit, error_rate, outage }
}

impl StandInHandle for DemoStandIn {
    fn faults(&self) -> StandIn {
        to_api(self.0.settings())
    }

    fn change(&self, change: &StandInChange) -> Result<StandIn, String> {
        let change = serde_json::to_value(change).map_err(|e| e.to_string())?;
        self.0.change(&change).map(to_api).map_err(|e| e.to_string())
    }
}
