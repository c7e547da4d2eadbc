//! `verax rate-limit`.

use std::time::Duration;

use serde_json::json;
use verax_client::{Client, Rate, RateLimitOutcome};

use super::entries::namespace;
use crate::arguments::RateLimitCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

pub(super) async fn rate_limit(
    verax: &Client,
    output: Output,
    command: RateLimitCommand,
) -> Result<(), Failure> {
    let RateLimitCommand::Acquire { entry, amount, rate, period, burst } = command;
    let limit = Rate::new(rate, period, burst.unwrap_or(rate))
        .map_err(|error| Failure::usage(error.to_string()))?;
    match namespace(verax, &entry.place)?.acquire_rate(&entry.key, amount, limit).await? {
        RateLimitOutcome::Allowed { left } => output
            .answer(&json!({ "key": entry.key, "allowed": true, "left": left }), |_| {
                format!("allowed · {} left", figures::count(left))
            }),
        RateLimitOutcome::Later { retry_after } => {
            let seconds = retry_after.as_secs_f64();
            if output.json {
                output.json(
                    &json!({ "key": entry.key, "allowed": false, "retry_after_seconds": seconds }),
                )?;
            }
            // Rounded up: who comes back a moment too early has asked for nothing.
            let whole = Duration::from_secs(seconds.ceil() as u64);
            let time = figures::time(if seconds < 1.0 { retry_after } else { whole });
            Err(Failure::refused(format!("not allowed: nothing was acquired; retry in {time}")))
        }
    }
}
