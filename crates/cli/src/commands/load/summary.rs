//! What a load run came to, for people.

use verax_api::{
    LaneComparison, LaneDifference, LaneReport, LoadReport, LoadRun, MetGoal, ReadErrors,
    RunComparison,
};

use verax_core::load::{ConfidenceInterval, LevelUnit, Limit, Verdict};

use crate::figures;
use crate::output::table;

/// What a run came to.
pub(super) fn summary(run: &LoadRun) -> String {
    let Some(report) = &run.report else {
        return format!("load run {} ended before it measured anything", run.id);
    };
    let is_comparable = report.doubts.is_empty();
    let mut parts = vec![head(run, report), lanes_table(report)];
    if report.stages.iter().filter(|stage| !stage.warm_up).count() > 1 {
        parts.push(stages_table(run, report));
    }
    if is_comparable {
        parts.extend(report.comparisons.iter().map(|compared| sentence(report, compared)));
    }
    parts.extend(report.lanes.iter().filter_map(|lane| bend(run, lane)));
    if !report.meanings.is_empty() {
        parts.push(meanings_table(report));
    }
    parts.extend(report.against_baseline.as_ref().map(against_baseline));
    if !report.goals.is_empty() {
        parts.push(report.goals.iter().map(goal).collect::<Vec<_>>().join("\n"));
    }
    if !report.errors.is_empty() {
        parts.push(report.errors.iter().map(failures).collect::<Vec<_>>().join("\n"));
    }
    parts.retain(|part| !part.is_empty());
    parts.join("\n\n")
}

fn head(run: &LoadRun, report: &LoadReport) -> String {
    let machines: Vec<&str> =
        run.workers.iter().filter_map(|worker| worker.machine.as_deref()).collect();
    let workers = match (run.workers.len(), machines.is_empty()) {
        (0 | 1, true) => String::new(),
        (count, true) => format!(" · {count} generators"),
        (count, false) => format!(" · {count} generators, of them {}", machines.join(", ")),
    };
    format!(
        "load run {} · {} · {} · {} keys · measured {:.1} s{workers} · {}",
        run.id,
        run.profile.name,
        run.profile.namespace,
        figures::count(report.keys),
        report.measured_seconds,
        run.state,
    )
}

/// Takes an interval from a lane.
type Interval = fn(&LaneReport) -> Option<ConfidenceInterval>;

/// The figures of all lanes, side by side.
fn lanes_table(report: &LoadReport) -> String {
    let row = |name: &str, figure: &dyn Fn(&LaneReport) -> String| {
        let figures = report.lanes.iter().map(figure);
        std::iter::once(name.to_owned()).chain(figures).collect::<Vec<_>>()
    };
    let ms = figures::milliseconds_or_none;
    // An interval stands below its figure.
    let interval = |of: Interval, write: fn(f64) -> String| {
        let shown = |lane: &LaneReport| {
            of(lane).map_or_else(
                || "–".to_owned(),
                |range| format!("{} to {}", write(range.low), write(range.high)),
            )
        };
        let has_any = report.lanes.iter().any(|lane| of(lane).is_some());
        has_any.then(|| row("  95 % between", &shown))
    };
    let mut rows = vec![
        row("requests", &|lane| figures::count(lane.figures.requests)),
        row("errors", &|lane| figures::count(lane.figures.errors)),
    ];
    if report.lanes.iter().any(|lane| lane.unanswered > 0) {
        rows.push(row("unanswered at the end", &|lane| figures::count(lane.unanswered)));
    }
    rows.push(row("throughput", &|lane| figures::rate(lane.figures.per_second)));
    rows.extend(interval(|lane| lane.throughput_interval, figures::rate));
    rows.push(row("p50", &|lane| ms(lane.figures.p50_ms)));
    rows.extend(interval(|lane| lane.p50_interval, figures::milliseconds));
    rows.push(row("p90", &|lane| ms(lane.figures.p90_ms)));
    rows.push(row("p99", &|lane| ms(lane.figures.p99_ms)));
    rows.extend(interval(|lane| lane.p99_interval, figures::milliseconds));
    rows.push(row("p99.9", &|lane| ms(lane.figures.p999_ms)));
    rows.push(row("slowest", &|lane| ms(lane.figures.max_ms)));
    if report.lanes.iter().any(|lane| lane.corrected.is_some()) {
        rows.push(row("p99 corrected", &|lane| ms(lane.corrected.and_then(|c| c.p99_ms))));
    }
    if report.lanes.iter().any(|lane| lane.from_send.is_some()) {
        rows.push(row("p99 from sending", &|lane| ms(lane.from_send.and_then(|c| c.p99_ms))));
    }
    rows.push(row("hit ratio", &|lane| figures::share(lane.figures.hit_ratio)));
    rows.push(row("origin calls", &|lane| figures::count(lane.figures.origin_calls)));
    if report.lanes.iter().any(|lane| lane.figures.writes > 0) {
        rows.push(row("writes", &|lane| figures::count(lane.figures.writes)));
    }
    if report.lanes.iter().any(|lane| lane.warm_up.is_some()) {
        rows.push(row("p50 of the warm-up", &|lane| ms(lane.warm_up.and_then(|w| w.p50_ms))));
    }
    let names: Vec<String> = report.lanes.iter().map(|lane| format!(">{}", lane.name)).collect();
    let titles: Vec<&str> = std::iter::once("").chain(names.iter().map(String::as_str)).collect();
    table(&titles, rows)
}

/// The stages, one a row.
fn stages_table(run: &LoadRun, report: &LoadReport) -> String {
    let unit = match run.profile.arrivals.unit() {
        LevelUnit::Pace => ">pace".to_owned(),
        unit => format!(">{unit}"),
    };
    let mut titles = vec!["stage".to_owned(), unit];
    for lane in &report.lanes {
        titles.extend([format!(">{}", lane.name), ">p50".to_owned(), ">p99".to_owned()]);
    }
    let titles: Vec<&str> = titles.iter().map(String::as_str).collect();
    let rows = report.stages.iter().map(|stage| {
        let mut row = vec![stage.name.clone(), stage.level.to_string()];
        for lane in &stage.lanes {
            row.push(figures::rate(lane.per_second));
            row.push(figures::milliseconds_or_none(lane.p50_ms));
            row.push(figures::milliseconds_or_none(lane.p99_ms));
        }
        row
    });
    table(&titles, rows)
}

/// How the first lane compares with another.
fn sentence(report: &LoadReport, compared: &LaneComparison) -> String {
    let p50 = |name: &str| {
        report.lanes.iter().find(|lane| lane.name == name).and_then(|lane| lane.figures.p50_ms)
    };
    let LaneComparison { lane, against, comparison } = compared;
    let (Some(times), Some(this), Some(other)) =
        (comparison.times_faster_p50, p50(lane), p50(against))
    else {
        return String::new();
    };
    let (this_ms, other_ms) = (figures::milliseconds(this), figures::milliseconds(other));
    let mut text = match times >= 1.0 {
        true => format!(
            "{lane} was {} faster than {against} at the median: {this_ms} against {other_ms}",
            figures::times(Some(times)),
        ),
        false => format!(
            "{lane} was {} slower than {against} at the median: {this_ms} against {other_ms}",
            figures::times(Some(1.0 / times)),
        ),
    };
    if let Some(interval) = comparison.throughput_interval {
        text.push_str(&format!(
            "\n{lane} answered {} the requests of {against}: between {} and {} with 95 % confidence",
            figures::times(comparison.times_throughput),
            figures::times(Some(interval.low)),
            figures::times(Some(interval.high)),
        ));
    }
    text
}

/// Where a lane bends.
fn bend(run: &LoadRun, lane: &LaneReport) -> Option<String> {
    let bend = lane.bend?;
    let unit = match run.profile.arrivals.unit() {
        // What was due is known from the recording.
        LevelUnit::Pace => LevelUnit::PerSecond,
        unit => unit,
    };
    let name = &lane.name;
    let limit = match bend.limit {
        Limit::Errors => "errors limit it",
        Limit::Generator => "the generator limits it: use more workers",
        Limit::Saturated => "what it reads is saturated",
        Limit::NotReached => "its limit was not reached",
    };
    let mut text = format!(
        "{name} bends at {}: {} at {} on average; {limit}",
        unit.with(rounded(bend.knee_level)),
        figures::rate(bend.knee_per_second),
        figures::milliseconds(bend.knee_ms),
    );
    if let Some(law) = bend.law {
        let percent = |share: f64| format!("{:.1} %", share * 100.0);
        text.push_str(&format!(
            "\n  contention {} ({} to {}), coherency {:.5} ({:.5} to {:.5}), off by {} at most",
            percent(law.contention),
            percent(law.contention_range.low),
            percent(law.contention_range.high),
            law.coherency,
            law.coherency_range.low,
            law.coherency_range.high,
            percent(law.largest_error),
        ));
        match (law.peak_clients, law.peak_per_second) {
            (Some(clients), Some(peak)) => text.push_str(&format!(
                "\n  expected peak: {} with {}; more would lower it",
                figures::rate(peak),
                unit.with(clients.round()),
            )),
            (None, Some(peak)) => {
                text.push_str(&format!("\n  levels off towards {}", figures::rate(peak)));
            }
            _ => {}
        }
    }
    if bend.law.is_none() && matches!(unit, LevelUnit::Clients | LevelUnit::Instances) {
        text.push_str("\n  its steps do not follow the scalability law");
    }
    if bend.declines {
        text.push_str("\n  the last step had less throughput than an earlier one: more lower it");
    }
    Some(text)
}

/// A level without more digits than people read.
fn rounded(level: f64) -> f64 {
    (level * 10.0).round() / 10.0
}

/// What the figures mean, with their formulas.
fn meanings_table(report: &LoadReport) -> String {
    let rows = report.meanings.iter().map(|meaning| {
        let value = figures::count(meaning.value.max(0.0).round() as u64);
        vec![meaning.name.clone(), value, meaning.unit.clone(), meaning.formula.clone()]
    });
    table(&["what it means", ">", "", "how it is worked out"], rows)
}

/// The differences of two runs, one a row.
pub(super) fn differences(comparison: &RunComparison) -> String {
    let rows =
        comparison.differences.iter().map(|LaneDifference { lane, figure, unit, difference }| {
            let figure_of = |value: f64| match unit.as_str() {
                "ms" => figures::milliseconds(value),
                "/s" => figures::rate(value),
                _ => figures::share(Some(value)),
            };
            let range = difference.interval.map_or_else(
                || "–".to_owned(),
                |range| format!("{:.3} to {:.3}", range.low, range.high),
            );
            let verdict = match difference.verdict {
                Verdict::Better => "better",
                Verdict::Worse => "worse",
                Verdict::NoDifference => "no difference shown",
                Verdict::TooFew => "too few seconds to tell",
            };
            vec![
                lane.clone(),
                figure.clone(),
                figure_of(difference.before),
                figure_of(difference.after),
                format!("{:.3}", difference.ratio),
                range,
                verdict.to_owned(),
            ]
        });
    let before = format!(">run {}", comparison.before);
    let after = format!(">run {}", comparison.after);
    let titles = ["lane", "figure", &before, &after, ">ratio", ">95 % between", "comes to"];
    table(&titles, rows)
}

/// What got worse since the baseline, or that nothing did.
fn against_baseline(comparison: &RunComparison) -> String {
    let is_worse = |difference: &&LaneDifference| difference.difference.verdict == Verdict::Worse;
    let worse: Vec<String> = comparison
        .differences
        .iter()
        .filter(is_worse)
        .map(|worse| format!("{} {}", worse.lane, worse.figure))
        .collect();
    match worse.is_empty() {
        true => format!("no figure is worse than in the baseline, run {}", comparison.before),
        false => format!(
            "REGRESSION: worse than in the baseline, run {}: {}\n\n{}",
            comparison.before,
            worse.join(", "),
            differences(comparison)
        ),
    }
}

fn goal(goal: &MetGoal) -> String {
    let measured = |measured: f64| match measured >= 100.0 {
        true => figures::count(measured.round() as u64),
        false => format!("{measured:.3}"),
    };
    let measured = goal.measured.map_or_else(|| "nothing".to_owned(), measured);
    match goal.is_met {
        true => format!("met: {} ({measured})", goal.goal),
        false => format!("missed: {} ({measured})", goal.goal),
    }
}

fn failures(errors: &ReadErrors) -> String {
    let ReadErrors { lane, kind, message, count } = errors;
    format!("  {} × {lane}, {}: {message}", figures::count(*count), kind.name())
}
