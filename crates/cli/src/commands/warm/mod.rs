//! Warm plans and warm runs.

mod follow;
mod plan_file;
mod plans;
mod request;

use verax_api::{StartWarmRun, WarmEstimate, WarmFailure, WarmRun};
use verax_client::Client;

use super::administration::moment;
use super::entries::namespace;
use super::runs;
use crate::arguments::WarmCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};
use follow::{follow, summary};
use request::{keys_in, request_of};

/// How many keys of an estimate fit on a line.
const SHOWN_KEYS: usize = 5;

pub(super) async fn warm(
    verax: &Client,
    output: Output,
    command: WarmCommand,
) -> Result<(), Failure> {
    match command {
        WarmCommand::Run { plan, keys_from, overlap, wait: _, no_wait, dry_run } => {
            let keys = keys_from.map_or(Ok(Vec::new()), |file| keys_in(&file))?;
            let start = StartWarmRun { keys, overlap: overlap.map(Into::into) };
            if dry_run {
                let estimate = verax.estimate_warm_plan(&plan.tenant, &plan.name, &start).await?;
                return output.answer(&estimate, estimated);
            }
            let run = verax.run_warm_plan(&plan.tenant, &plan.name, &start).await?;
            started(verax, output, run, no_wait).await
        }
        WarmCommand::Fill { place, options, no_wait, dry_run } => {
            let request = request_of(*options)?;
            let namespace = namespace(verax, &place)?;
            if dry_run {
                return output.answer(&namespace.estimate_warm_run(&request).await?, estimated);
            }
            let run = namespace.start_warm_run(&request).await?;
            started(verax, output, run, no_wait).await
        }
        WarmCommand::List => {
            let runs = verax.runs::<WarmRun>().await?;
            output.answer(&runs, |runs| table_of(runs))
        }
        WarmCommand::Show { run, failures } => {
            let failed = verax.warm_failures(run, 0, failures).await?;
            let run = verax.warm_run(run).await?;
            output.answer(&run, |run| described(run, &failed))
        }
        WarmCommand::Follow { run } => {
            let run = verax.warm_run(run).await?;
            follow(verax, output, run).await
        }
        WarmCommand::Pause { run } => {
            let run = verax.pause_warm_run(run, true).await?;
            output.answer(&run, |run| format!("warm run {} pauses", run.id))
        }
        WarmCommand::Resume { run } => {
            let run = verax.pause_warm_run(run, false).await?;
            output.answer(&run, |run| format!("warm run {} goes on", run.id))
        }
        WarmCommand::Stop { run } => runs::stop::<WarmRun>(verax, output, run).await,
        WarmCommand::Plan(command) => plans::plan(verax, output, command).await,
    }
}

async fn started(
    verax: &Client,
    output: Output,
    run: WarmRun,
    no_wait: bool,
) -> Result<(), Failure> {
    match no_wait {
        true => output.answer(&run, |run| {
            format!("warm run {0} started: follow it with `verax warm follow {0}`", run.id)
        }),
        false => follow(verax, output, run).await,
    }
}

fn table_of(runs: &[WarmRun]) -> String {
    let row = |run: &WarmRun| {
        vec![
            run.id.to_string(),
            moment(run.started_at),
            run.plan.clone().unwrap_or_else(|| "–".to_owned()),
            format!("{}/{}", run.tenant, run.namespace),
            if run.phase.is_empty() { run.state.clone() } else { run.phase.clone() },
            figures::count(run.keys),
            figures::count(run.stored),
            figures::count(run.skipped),
            figures::count(run.failed),
            figures::milliseconds(run.elapsed_ms),
            run.cause.clone(),
        ]
    };
    let titles = [
        ">run",
        "started",
        "plan",
        "namespace",
        "state",
        ">keys",
        ">stored",
        ">fresh",
        ">failed",
        ">took",
        "started by",
    ];
    table(&titles, runs.iter().map(row))
}

/// A run, with the reason of each failed key.
fn described(run: &WarmRun, failed: &[WarmFailure]) -> String {
    let mut text = summary(run);
    text.push_str(&format!("\n  started {} by {}", moment(run.started_at), run.cause));
    if run.resumed > 0 {
        let times = figures::number_of(run.resumed.into(), "restart", "restarts");
        text.push_str(&format!("\n  resumed after {times} of Verax"));
    }
    for count in &run.failure_counts {
        let keys = figures::number_of(count.keys, "key", "keys");
        text.push_str(&format!("\n  {keys} failed with {}", count.kind));
    }
    for failure in failed {
        text.push_str(&format!("\n    {}: {}", failure.key, failure.reason));
    }
    let more = run.failed.saturating_sub(failed.len() as u64);
    if more > 0 && !failed.is_empty() {
        text.push_str(&format!("\n    and {} more", figures::count(more)));
    }
    text
}

fn estimated(estimate: &WarmEstimate) -> String {
    let seconds = |seconds: f64| figures::milliseconds(seconds * 1_000.0);
    let mut lines = vec![
        format!(
            "keys           {} ({} fresh, {} to refill)",
            figures::count(estimate.keys),
            figures::count(estimate.fresh),
            figures::count(estimate.refills)
        ),
        format!(
            "duration       {}",
            match (estimate.seconds, estimate.refill_ms) {
                (Some(time), Some(refill)) => format!(
                    "about {}: {} of {} each, {} concurrently",
                    seconds(time),
                    figures::number_of(estimate.refills, "refill", "refills"),
                    figures::milliseconds(refill),
                    estimate.origin_concurrency
                ),
                _ => "not known: no refill was measured yet".to_owned(),
            }
        ),
        format!(
            "origin load    {}",
            match estimate.origin_reads_per_second {
                Some(rate) => format!(
                    "about {} reads a second, {} concurrent calls",
                    figures::rate(rate).trim_end_matches("/s"),
                    estimate.origin_concurrency
                ),
                None => format!("{} concurrent calls", estimate.origin_concurrency),
            }
        ),
        format!(
            "memory         {} of {} used, {} more, {} evicted",
            figures::bytes(estimate.used_bytes),
            figures::bytes(estimate.limit_bytes),
            estimate.added_bytes.map_or_else(|| "an unknown amount".to_owned(), figures::bytes),
            figures::bytes(estimate.evicted_bytes),
        ),
    ];
    if !estimate.first_keys.is_empty() {
        let first = &estimate.first_keys[..estimate.first_keys.len().min(SHOWN_KEYS)];
        lines.push(format!("first keys     {}", first.join(", ")));
    }
    lines.extend(estimate.warnings.iter().map(|warning| format!("warning        {warning}")));
    lines.join("\n")
}
