//! Follows a warm run: a progress bar on a terminal, else a line from time to time.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use verax_api::WarmRun;
use verax_client::Client;

use crate::commands::runs;
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

/// How often a line tells the progress where there is no terminal.
const LINE_EVERY: Duration = Duration::from_secs(5);

/// What follows a run's progress.
enum Progress {
    Bar(ProgressBar),
    Lines { output: Output, last: Instant },
}

fn details(run: &WarmRun) -> String {
    let mut text = match run.phase.as_str() {
        "refilling" | "" => figures::rate(run.per_second),
        phase => phase.to_owned(),
    };
    for (number, what) in
        [(run.skipped, "fresh"), (run.no_value, "without a value"), (run.failed, "failed")]
    {
        if number > 0 {
            text.push_str(&format!(", {} {what}", figures::count(number)));
        }
    }
    if let Some(left) = run.seconds_left {
        let left = figures::time(Duration::try_from_secs_f64(left.ceil()).unwrap_or_default());
        text.push_str(&format!(", {left} left"));
    }
    text
}

impl Progress {
    fn new(output: Output, run: &WarmRun) -> Result<Self, Failure> {
        if output.json || !std::io::stderr().is_terminal() {
            return Ok(Self::Lines { output, last: Instant::now() });
        }
        let bar = ProgressBar::new(run.keys);
        let style = "warming {bar:30} {pos} of {len} keys, {msg}";
        let style = ProgressStyle::with_template(style);
        bar.set_style(style.map_err(|e| Failure::failed(e.to_string()))?);
        Ok(Self::Bar(bar))
    }

    fn show(&mut self, run: &WarmRun) {
        match self {
            Self::Bar(bar) => {
                bar.set_position(run.finished());
                bar.set_message(details(run));
            }
            Self::Lines { output, last } if last.elapsed() >= LINE_EVERY => {
                *last = Instant::now();
                output.remark(format!(
                    "warming {}/{}: {} of {} keys, {}",
                    run.tenant,
                    run.namespace,
                    figures::count(run.finished()),
                    figures::count(run.keys),
                    details(run)
                ));
            }
            Self::Lines { .. } => {}
        }
    }
}

/// Follows a run to its end, and fails unless every key is warm.
pub(super) async fn follow(verax: &Client, output: Output, run: WarmRun) -> Result<(), Failure> {
    let mut progress = Progress::new(output, &run)?;
    let run = match run.state.as_str() {
        "running" => runs::follow(verax, run, |run| progress.show(run)).await?,
        _ => run,
    };
    if let Progress::Bar(bar) = &progress {
        bar.finish_and_clear();
    }
    output.answer(&run, summary)?;
    for warning in &run.warnings {
        output.remark(format!("warning: {warning}"));
    }
    match run.state.as_str() {
        "done" if run.failed == 0 => Ok(()),
        "stopped" => Err(Failure::stopped("the warm run was stopped")),
        "running" | "interrupted" => Err(Failure::partial(
            "Verax stopped before the warm run ended; its next start resumes the run",
        )),
        _ => {
            let warm = run.stored + run.skipped + run.no_value;
            let reason = run.reason.as_ref().map(|reason| format!(": {reason}"));
            Err(Failure::partial(format!(
                "{} of {} keys were not warmed{}",
                figures::count(run.keys.saturating_sub(warm)),
                figures::count(run.keys),
                reason.unwrap_or_default()
            )))
        }
    }
}

/// What a run did.
pub(super) fn summary(run: &WarmRun) -> String {
    let mut text = format!(
        "warmed {} of {} keys of {}/{} in {} ({}, {:.1} refills at a time): {}",
        figures::count(run.stored),
        figures::count(run.keys),
        run.tenant,
        run.namespace,
        figures::milliseconds(run.elapsed_ms),
        figures::rate(run.per_second),
        run.origin_concurrency,
        figures::bytes(run.bytes),
    );
    for (number, what) in
        [(run.skipped, "fresh already"), (run.no_value, "without a value"), (run.failed, "failed")]
    {
        if number > 0 {
            text.push_str(&format!("; {} {what}", figures::count(number)));
        }
    }
    if let Some(reason) = &run.reason {
        text.push_str(&format!("; {}: {reason}", run.state));
    }
    for failure in run.failures.iter().take(5) {
        text.push_str(&format!("\n  {}: {}", failure.key, failure.reason));
    }
    if run.failed > 5 {
        let more = figures::count(run.failed - 5);
        text.push_str(&format!("\n  and {more} more: see `verax warm show {}`", run.id));
    }
    text
}
