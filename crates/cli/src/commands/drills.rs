//! Drills: live while they run, then both sides beside each other.

use indicatif::{ProgressBar, ProgressStyle};
use verax_api::{DrillFigure, DrillRequest, DrillRun, DrillSide, DrillTick};
use verax_client::Client;

use super::runs;
use crate::arguments::DrillCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

/// The columns of a curve.
const WIDTH: usize = 56;

/// The most events that are shown of a side.
const MAX_EVENTS: usize = 14;

const LEVELS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

pub(super) async fn drill(
    verax: &Client,
    output: Output,
    command: DrillCommand,
) -> Result<(), Failure> {
    match command {
        DrillCommand::List => {
            let drills = verax.drills().await?;
            output.answer(&drills, |drills| {
                let row = |d: &verax_api::DrillSpec| vec![d.name.clone(), d.title.clone()];
                match drills.is_empty() {
                    true => "there are no drills here: start the demo with `verax demo`".into(),
                    false => table(&["drill", "question"], drills.iter().map(row)),
                }
            })
        }
        DrillCommand::Run { drill, callers } => {
            run(verax, output, &DrillRequest { drill, callers }).await
        }
    }
}

async fn run(verax: &Client, output: Output, request: &DrillRequest) -> Result<(), Failure> {
    let run = verax.start_drill(request).await?;
    output.remark(format!("{} {}", run.drill.title, run.drill.about));
    let bar = if output.json { ProgressBar::hidden() } else { ProgressBar::new_spinner() };
    if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}") {
        bar.set_style(style);
    }
    let run = runs::follow(verax, run, |run| {
        if let Some(side) = run.sides.last() {
            bar.set_message(now(side));
            bar.tick();
        }
    })
    .await?;
    bar.finish_and_clear();
    if let Some(reason) = &run.reason {
        return Err(Failure::failed(format!("the drill failed: {reason}")));
    }
    runs::completed(&run)?;
    output.answer(&run, summary)
}

/// A side at this moment, in a line.
fn now(side: &DrillSide) -> String {
    let seen = side.ticks.last().map(|tick| {
        let values = tick.values.iter().map(|(name, value)| format!("{name} {value:.0}"));
        values.collect::<Vec<_>>().join(" · ")
    });
    let event = side.events.last().map(|event| format!("{} {}", event.who, event.what));
    [Some(side.name.clone()), seen, event].into_iter().flatten().collect::<Vec<_>>().join(" · ")
}

fn number(figure: &DrillFigure) -> String {
    match figure.unit.as_str() {
        "" => figures::count(figure.value.round() as u64),
        "ms" => figures::milliseconds_or_none(Some(figure.value)),
        unit => format!("{} {unit}", figure.value),
    }
}

fn summary(run: &DrillRun) -> String {
    let titles: Vec<String> = std::iter::once(String::new())
        .chain(run.sides.iter().map(|side| format!(">{}", side.name)))
        .collect();
    let titles: Vec<&str> = titles.iter().map(String::as_str).collect();
    let names = run.sides.first().map_or(&[][..], |side| &side.figures);
    let rows = names.iter().enumerate().map(|(at, figure)| {
        let of_side = |side: &DrillSide| side.figures.get(at).map_or("–".into(), number);
        std::iter::once(figure.name.clone()).chain(run.sides.iter().map(of_side)).collect()
    });
    let mut text = curves(run);
    for side in run.sides.iter().filter(|side| !side.events.is_empty()) {
        text.push_str(&format!("{}\n", side.name));
        let shown = side.events.len().min(MAX_EVENTS);
        for event in &side.events[..shown] {
            text.push_str(&format!(
                "  {:>8} ms  {} {}\n",
                format!("{:.0}", event.at_ms),
                event.who,
                event.what
            ));
        }
        if side.events.len() > shown {
            text.push_str(&format!("  … and {} more\n", side.events.len() - shown));
        }
        text.push('\n');
    }
    text.push_str(&table(&titles, rows));
    if let Some(conclusion) = &run.conclusion {
        text.push_str(&format!("\n\n{conclusion}"));
    }
    text
}

/// The curves of all sides, each number with one scale for all of them.
fn curves(run: &DrillRun) -> String {
    let ticks = || run.sides.iter().flat_map(|side| &side.ticks);
    let Some(first) = ticks().next() else { return String::new() };
    let end = ticks().map(|tick| tick.at_ms).fold(1.0, f64::max);
    let width = run.sides.iter().map(|side| side.name.chars().count()).max().unwrap_or(0);
    let mut text = String::new();
    for name in first.values.keys() {
        let of = |tick: &DrillTick| tick.values.get(name).copied().unwrap_or(0.0);
        let most = ticks().map(of).fold(0.0, f64::max);
        if most == 0.0 {
            continue;
        }
        text.push_str(&format!(
            "{name}, up to {}, over {:.1} s\n",
            figures::count(most.round() as u64),
            end / 1_000.0
        ));
        for side in &run.sides {
            let mut columns = [None::<f64>; WIDTH];
            for tick in &side.ticks {
                let at = ((tick.at_ms / end) * (WIDTH - 1) as f64) as usize;
                let column = &mut columns[at.min(WIDTH - 1)];
                *column = Some(column.unwrap_or(0.0).max(of(tick)));
            }
            let (mut last, mut curve) = (0.0, String::new());
            let ended = side.ticks.last().map_or(0.0, |tick| tick.at_ms);
            for (at, column) in columns.iter().enumerate() {
                let value = column.unwrap_or(last);
                last = value;
                let over = at as f64 > ended / end * (WIDTH - 1) as f64;
                let level = (value / most * 8.0).ceil() as usize;
                curve.push(if over { ' ' } else { LEVELS[level.min(8)] });
            }
            text.push_str(&format!("  {:<width$} ▕{curve}▏\n", side.name));
        }
    }
    text.push('\n');
    text
}
