//! Warm runs, with a progress bar.

use indicatif::{ProgressBar, ProgressStyle};
use verax_api::{WarmRequest, WarmRun};
use verax_client::Client;

use super::administration::moment;
use super::entries::namespace;
use super::runs;
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
            show(verax, output, run).await
        }
        WarmCommand::List => {
            let runs = verax.runs::<WarmRun>().await?;
            output.answer(&runs, |runs| table_of(runs))
        }
        WarmCommand::Stop { run } => runs::stop::<WarmRun>(verax, output, run).await,
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

async fn show(verax: &Client, output: Output, run: WarmRun) -> Result<(), Failure> {
    // Hidden by itself where standard error is not a terminal.
    let bar = if output.json { ProgressBar::hidden() } else { ProgressBar::new(run.keys) };
    let style = "warming {bar:40} {pos} of {len} keys, {msg}";
    bar.set_style(ProgressStyle::with_template(style).map_err(|e| Failure::failed(e.to_string()))?);
    let run = runs::follow(verax, run, |run| {
        bar.set_position(run.stored + run.failed);
        bar.set_message(format!("{}, {} failed", figures::rate(run.per_second), run.failed));
    })
    .await?;
    bar.finish_and_clear();
    output.answer(&run, summary)?;
    runs::completed(&run)?;
    match run.state.as_str() {
        "done" if run.failed == 0 => Ok(()),
        _ => Err(Failure::failed(format!(
            "{} of {} keys were not warmed",
            figures::count(run.keys - run.stored),
            figures::count(run.keys)
        ))),
    }
}

fn summary(run: &WarmRun) -> String {
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
