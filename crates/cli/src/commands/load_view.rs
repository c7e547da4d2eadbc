//! A load run on a terminal: live while it runs, and its summary.

use std::cell::Cell;

use indicatif::{ProgressBar, ProgressStyle};
use verax_api::{LaneFigures, LoadRun, ReadErrors};

use crate::figures;
use crate::output::{Output, table};

/// The live view: two lanes that are redrawn in place, or a line a second without a terminal.
pub(super) struct LoadView {
    bar: ProgressBar,
    output: Output,
    seconds: f64,
    shown_ticks: Cell<usize>,
}

/// Columns of a latency bar for each power of ten.
const COLUMNS: usize = 11;

/// The longest latency bar: ten seconds.
const WIDEST: usize = 6 * COLUMNS;

impl LoadView {
    pub(super) fn new(output: Output, run: &LoadRun) -> Self {
        let profile = &run.profile;
        output.remark(format!(
            "load run {}: {} ({}, {} clients per lane, closed loop)",
            run.id, profile.name, profile.namespace, profile.clients
        ));
        let seconds = profile.warm_up_seconds + profile.duration_seconds;
        let bar = if output.json {
            ProgressBar::hidden()
        } else {
            ProgressBar::new((seconds * 10.0) as u64)
        };
        if let Ok(style) = ProgressStyle::with_template("{bar:60} {prefix}\n{msg}") {
            bar.set_style(style);
        }
        Self { bar, output, seconds, shown_ticks: Cell::new(0) }
    }

    pub(super) fn show(&self, run: &LoadRun) {
        let Some(tick) = run.ticks.last() else { return };
        // The end of a run brings no new second.
        if self.shown_ticks.replace(run.ticks.len()) == run.ticks.len() {
            return;
        }
        let phase = if tick.warm_up { "warm-up" } else { "measuring" };
        let at = format!("{:.0} of {:.0} s, {phase}", tick.at_seconds, self.seconds);
        if self.bar.is_hidden() {
            let lane = |f: &LaneFigures| {
                format!(
                    "{} p50 {} errors {}",
                    figures::rate(f.per_second),
                    figures::milliseconds_or_none(f.p50_ms),
                    f.errors
                )
            };
            let (cached, direct) = (lane(&tick.cached), lane(&tick.direct));
            self.output.remark(format!("{at} · cached {cached} · direct {direct}"));
            return;
        }
        self.bar.set_position((tick.at_seconds * 10.0) as u64);
        self.bar.set_prefix(at);
        self.bar.set_message(lanes(&tick.cached, &tick.direct));
    }

    pub(super) fn end(&self) {
        self.bar.finish_and_clear();
    }
}

/// Both lanes of a second, with bars for the median on a scale of powers of ten.
fn lanes(cached: &LaneFigures, direct: &LaneFigures) -> String {
    let row = |name: &str, f: &LaneFigures| {
        vec![
            name.to_owned(),
            figures::rate(f.per_second),
            figures::milliseconds_or_none(f.p50_ms),
            figures::milliseconds_or_none(f.p99_ms),
            figures::share(f.hit_ratio),
            figures::count(f.errors),
        ]
    };
    let titles = ["lane", ">reads", ">p50", ">p99", ">hits", ">errors"];
    let figures = table(&titles, [row("cached", cached), row("direct", direct)]);
    let bar = |name: &str, f: &LaneFigures, mark: &str| {
        format!("p50 {name}  {}", mark.repeat(width(f.p50_ms)))
    };
    format!(
        "{figures}\n\n{}\n{}\n            {}",
        bar("cached", cached, "━"),
        bar("direct", direct, "╍"),
        scale()
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

/// What a run came to.
pub(super) fn summary(run: &LoadRun) -> String {
    let Some(report) = &run.report else {
        return format!("load run {} ended before it measured anything", run.id);
    };
    let lane =
        |figure: &dyn Fn(&LaneFigures) -> String| (figure(&report.cached), figure(&report.direct));
    let ms = |get: fn(&LaneFigures) -> Option<f64>| {
        lane(&|f: &LaneFigures| figures::milliseconds_or_none(get(f)))
    };
    let comparison = &report.comparison;
    let faster = |ratio| format!("{} faster", figures::times(ratio));
    let none = String::new;
    let rows = [
        ("requests", lane(&|f| figures::count(f.requests)), none()),
        ("errors", lane(&|f| figures::count(f.errors)), none()),
        (
            "throughput",
            lane(&|f| figures::rate(f.per_second)),
            format!("{} the reads", figures::times(comparison.times_throughput)),
        ),
        ("p50", ms(|f| f.p50_ms), faster(comparison.times_faster_p50)),
        ("p90", ms(|f| f.p90_ms), none()),
        ("p99", ms(|f| f.p99_ms), faster(comparison.times_faster_p99)),
        ("max", ms(|f| f.max_ms), none()),
        ("hit ratio", lane(&|f| figures::share(f.hit_ratio)), none()),
        ("origin calls", lane(&|f| figures::count(f.origin_calls)), none()),
    ];
    let rows =
        rows.map(|(name, (cached, direct), more)| vec![name.to_owned(), cached, direct, more]);
    let mut text = format!(
        "{} · {} · {} keys · measured {:.1} s after {} s of warm-up · {}\n\n{}",
        run.profile.name,
        run.profile.namespace,
        figures::count(report.keys),
        report.measured_seconds,
        run.profile.warm_up_seconds,
        run.state,
        table(&["", ">cached", ">direct", "cached against direct"], rows),
    );
    if let (Some(times), Some(cached), Some(direct), true) = (
        comparison.times_faster_p50,
        report.cached.p50_ms,
        report.direct.p50_ms,
        report.doubts.is_empty(),
    ) {
        text.push_str(&format!(
            "\n\ncached reads were {} faster than direct ones at the median: {} against {}",
            figures::times(Some(times)),
            figures::milliseconds(cached),
            figures::milliseconds(direct)
        ));
    }
    if let (Some(interval), true) = (comparison.throughput_interval, report.doubts.is_empty()) {
        text.push_str(&format!(
            "\nthe cached lane answered {} the reads of the direct one: between {} and {} with 95 % \
             confidence",
            figures::times(comparison.times_throughput),
            figures::times(Some(interval.low)),
            figures::times(Some(interval.high)),
        ));
    }
    for ReadErrors { lane, message, count } in &report.errors {
        text.push_str(&format!("\n  {} × {}: {message}", figures::count(*count), lane.name()));
    }
    text
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
