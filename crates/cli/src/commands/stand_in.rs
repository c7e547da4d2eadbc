//! The stand-in origin of the demo.

use verax_api::{StandIn, StandInChange};
use verax_client::Client;

use crate::arguments::StandInCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

pub(super) async fn stand_in(
    verax: &Client,
    output: Output,
    command: StandInCommand,
) -> Result<(), Failure> {
    let faults = match command {
        StandInCommand::Show => verax.stand_in().await?,
        StandInCommand::Change { extra_latency, error_percent, outage } => {
            let extra_latency_ms =
                extra_latency.map(|time| u64::try_from(time.as_millis()).unwrap_or(u64::MAX));
            let error_rate = error_percent.map(|percent| percent / 100.0);
            let change =
                StandInChange { extra_latency_ms, error_rate, outage, ..StandInChange::default() };
            verax.change_stand_in(&change).await?
        }
    };
    output.answer(&faults, describe)
}

fn describe(faults: &StandIn) -> String {
    format!(
        "stand-in: {} ms of extra latency, {} of the calls fail, {}",
        faults.extra_latency_ms,
        figures::share(Some(faults.error_rate)),
        if faults.outage { "outage" } else { "no outage" },
    )
}
