//! Warm runs, with a progress bar.

use futures_util::StreamExt;
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::json;
use verax_api::{WarmRequest, WarmRun};
use verax_client::Client;

use super::administration::moment;
use super::entries::namespace;
use crate::arguments::{WarmCommand, gather};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn warm(
    verax: &Client,
    output: Output,
    command: WarmCommand,
) -> Result<(), Failure> {
    match command {
        WarmCommand::Run { place, pattern, values, concurrency } => {
            let request =
                WarmRequest { pattern, values: gather(values), concurrency: Some(concurrency) };
            let run = namespace(verax, &place)?.start_warm_run(&request).await?;
            follow(verax, output, run).await
        }
        WarmCommand::List => {
            let runs = verax.warm_runs().await?;
            output.answer(&runs, |runs| table_of(runs))
        }
        WarmCommand::Stop { run } => {
            verax.stop_warm_run(run).await?;
            output.answer(&json!({ "stopping": run }), |_| format!("warm run {run} stops"))
        }
    }
}

fn table_of(runs: &[WarmRun]) -> String {
    let row = |run: &WarmRun| {
        vec![
            run.id.to_string(),
            moment(run.started_at),
            format!("{}/{}", run.tenant, run.namespace),
            run.state.clone(),
            figures::count(run.keys),
            figures::count(run.stored),
            figures::count(run.failed),
            figures::milliseconds(run.elapsed_ms),
        ]
    };
    let titles = [">run", "started", "namespace", "state", ">keys", ">stored", ">failed", ">took"];
    table(&titles, runs.iter().map(row))
}

async fn follow(verax: &Client, output: Output, mut run: WarmRun) -> Result<(), Failure> {
    // Hidden by itself where standard error is not a terminal.
    let bar = if output.json { ProgressBar::hidden() } else { ProgressBar::new(run.keys) };
    let style = "warming {bar:40} {pos} of {len} keys, {msg}";
    bar.set_style(ProgressStyle::with_template(style).map_err(|e| Failure::failed(e.to_string()))?);
    let mut changes = Box::pin(verax.watch_warm_run(run.id).await?);
    let mut interrupted = false;
    loop {
        tokio::select! {
            change = changes.next() => match change {
                Some(change) => run = change?,
                None => break,
            },
            // Ctrl-C ends the run itself, not only this view of it.
            _ = tokio::signal::ctrl_c(), if !interrupted => {
                interrupted = true;
                verax.stop_warm_run(run.id).await?;
            }
        }
        bar.set_position(run.stored + run.failed);
        bar.set_message(format!("{}, {} failed", figures::rate(run.per_second), run.failed));
    }
    bar.finish_and_clear();
    output.answer(&run, told)?;
    match run.state.as_str() {
        "done" if run.failed == 0 => Ok(()),
        "running" | "interrupted" => {
            Err(Failure::failed("Verax stopped before the warm run ended"))
        }
        _ => Err(Failure::failed(format!(
            "{} of {} keys were not warmed",
            figures::count(run.keys - run.stored),
            figures::count(run.keys)
        ))),
    }
}

fn told(run: &WarmRun) -> String {
    let mut text = format!(
        "warmed {} of {} keys of {}/{} in {} ({}), {} failed",
        figures::count(run.stored),
        figures::count(run.keys),
        run.tenant,
        run.namespace,
        figures::milliseconds(run.elapsed_ms),
        figures::rate(run.per_second),
        figures::count(run.failed),
    );
    for failure in &run.failures {
        text.push_str(&format!("\n  {}: {}", failure.key, failure.reason));
    }
    if run.failed as usize > run.failures.len() {
        text.push_str(&format!("\n  and {} more", run.failed as usize - run.failures.len()));
    }
    text
}
