//! A load run on a terminal, live.

use std::cell::Cell;

use indicatif::{ProgressBar, ProgressStyle};
use verax_api::{LaneFigures, LoadRun, LoadTick, WorkerState};

use crate::figures;
use crate::output::{Output, table};

/// The live view: lanes that are redrawn in place, or a line a second without a terminal.
pub(super) struct LoadView {
    bar: ProgressBar,
    output: Output,
    seconds: f64,
    shown_ticks: Cell<u64>,
    shown_marks: Cell<usize>,
}

/// Columns of a latency bar for each power of ten.
const COLUMNS: usize = 11;

/// The longest latency bar: ten seconds.
const WIDEST: usize = 6 * COLUMNS;

impl LoadView {
    pub(super) fn new(output: Output, run: &LoadRun) -> Self {
        let profile = &run.profile;
        let seconds = profile
            .profile()
            .map_or(0.0, |read| verax_core::load::Timeline::of(&read).length().as_secs_f64());
        output.remark(format!(
            "load run {}: {} ({}), {seconds} s",
            run.id, profile.name, profile.namespace
        ));
        let bar = if output.json {
            ProgressBar::hidden()
        } else {
            ProgressBar::new((seconds * 10.0) as u64)
        };
        if let Ok(style) = ProgressStyle::with_template("{bar:60} {prefix}\n{msg}") {
            bar.set_style(style);
        }
        let (shown_ticks, shown_marks) = Default::default();
        Self { bar, output, seconds, shown_ticks, shown_marks }
    }

    pub(super) fn show(&self, run: &LoadRun) {
        for mark in run.marks.iter().skip(self.shown_marks.replace(run.marks.len())) {
            self.remark(format!("{:.1} s: {}", mark.at_seconds, mark.text));
        }
        let Some(tick) = run.ticks.last() else {
            if run.workers.iter().any(|worker| worker.state == WorkerState::Starting) {
                self.bar.set_prefix("calibrating the generators");
            }
            return;
        };
        // The end of a run brings no new second.
        let ticks = run.first_tick + run.ticks.len() as u64;
        if self.shown_ticks.replace(ticks) == ticks {
            return;
        }
        let at = self.place(run, tick);
        if self.bar.is_hidden() {
            let lanes: Vec<String> = names(run)
                .zip(&tick.lanes)
                .map(|(name, f)| {
                    format!(
                        "{name} {} p50 {} errors {}",
                        figures::rate(f.per_second),
                        figures::milliseconds_or_none(f.p50_ms),
                        f.errors
                    )
                })
                .collect();
            self.output.remark(format!("{at} · {}", lanes.join(" · ")));
            return;
        }
        self.bar.set_position((tick.at_seconds * 10.0) as u64);
        self.bar.set_prefix(at);
        self.bar.set_message(lanes(run, tick));
    }

    fn remark(&self, text: String) {
        match self.bar.is_hidden() {
            true => self.output.remark(text),
            false => self.bar.println(text),
        }
    }

    /// Where the run is.
    fn place(&self, run: &LoadRun, tick: &LoadTick) -> String {
        let stages = run.profile.stages.iter().map(|stage| stage.name.as_str());
        let named = stages.collect::<Vec<_>>().get(tick.stage as usize).copied();
        let phase = match (tick.warm_up, run.paused) {
            (_, true) => "paused",
            (true, _) => "warm-up",
            (false, _) => named.unwrap_or("measuring"),
        };
        let level = run.profile.arrivals.unit().briefly(tick.level);
        format!("{:.0} of {:.0} s, {phase}, {level}", tick.at_seconds, self.seconds)
    }

    pub(super) fn end(&self) {
        self.bar.finish_and_clear();
    }
}

fn names(run: &LoadRun) -> impl Iterator<Item = &str> {
    run.profile.lanes.iter().map(|lane| lane.name.as_str())
}

/// All lanes of a second, with bars for the median on a scale of powers of ten.
fn lanes(run: &LoadRun, tick: &LoadTick) -> String {
    let row = |(name, f): (&str, &LaneFigures)| {
        vec![
            name.to_owned(),
            figures::rate(f.per_second),
            figures::milliseconds_or_none(f.p50_ms),
            figures::milliseconds_or_none(f.p99_ms),
            figures::milliseconds_or_none(f.p999_ms),
            figures::share(f.hit_ratio),
            figures::count(f.errors),
        ]
    };
    let titles = ["lane", ">requests", ">p50", ">p99", ">p99.9", ">hits", ">errors"];
    let figures = table(&titles, names(run).zip(&tick.lanes).map(row));
    let longest = names(run).map(str::len).max().unwrap_or(0);
    let bars: Vec<String> = names(run)
        .zip(&tick.lanes)
        .zip(["━", "╍", "┅", "┄", "╌", "┈"])
        .map(|((name, f), mark)| format!("p50 {name:longest$}  {}", mark.repeat(width(f.p50_ms))))
        .collect();
    let indent = " ".repeat(longest + 6);
    format!("{figures}\n\n{}\n{indent}{}\n{}", bars.join("\n"), scale(), machine(tick))
}

/// What the machine does, in a line.
fn machine(tick: &LoadTick) -> String {
    let machine = &tick.machine;
    let processors = |used: Option<f64>| {
        used.map_or_else(|| "–".to_owned(), |used| format!("{used:.2} processors"))
    };
    format!(
        "service {} · generators {} · taken by the host {}",
        processors(machine.service_processors),
        processors(machine.generator_processors),
        figures::share(machine.stolen),
    )
}

/// The powers of ten below the bars, each where a bar of that length ends.
fn scale() -> String {
    let mut text = String::new();
    for (power, label) in ["0.01 ms", "0.1", "1", "10", "100"].iter().enumerate() {
        text.push_str(&" ".repeat((power * COLUMNS).saturating_sub(text.len())));
        text.push_str(label);
    }
    text
}

/// The length of a bar: as many columns as there are powers of ten above 0.01 ms.
fn width(p50_ms: Option<f64>) -> usize {
    let columns = p50_ms.map_or(0.0, |ms| (ms / 0.01).max(1.0).log10() * COLUMNS as f64);
    (columns as usize).clamp(1, WIDEST)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_end_at_the_scale() {
        assert_eq!([0.01, 0.1, 1.0, 100.0].map(|ms| width(Some(ms))), [1, 11, 22, 44]);
        assert_eq!((width(None), width(Some(1e9))), (1, WIDEST));
        let scale = scale();
        assert_eq!(
            ["0.1", "1 ", "10 ", "100"].map(|label| scale.rfind(label).unwrap()),
            [11, 22, 33, 44]
        );
    }
}
