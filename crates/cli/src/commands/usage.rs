//! `verax usage`: usage over time, as a table, JSON, or comma-separated values.

use std::time::Duration;

use verax_api::{UsageHistory, UsagePoint};
use verax_client::{Client, UsageQuery};

use crate::arguments::UsageOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn usage(
    verax: &Client,
    output: Output,
    options: UsageOptions,
) -> Result<(), Failure> {
    let (tenant, namespace) = match options.of.as_deref().map(|of| of.split_once('/')) {
        None => (None, None),
        Some(None) => (options.of.clone(), None),
        Some(Some((tenant, name))) => (Some(tenant.to_owned()), Some(name.to_owned())),
    };
    let step = options.step.as_deref().map(|step| match step {
        "10s" => 10,
        "1m" => 60,
        "15m" => 900,
        _ => 86_400,
    });
    let (since, until) = (options.since, options.until);
    let query = UsageQuery { tenant, namespace, since, until, step };
    let history = verax.usage(&query).await?;
    if options.csv {
        return output.line(csv(&history));
    }
    output.answer(&history, report)
}

const COLUMNS: [&str; 13] = [
    "at",
    "covered_seconds",
    "entries",
    "bytes",
    "reads",
    "hits",
    "received_bytes",
    "sent_bytes",
    "origin_reads",
    "origin_saved_seconds",
    "evictions",
    "expirations",
    "refusals",
];

/// RFC 4180, with numbers without units. No field has a comma.
fn csv(history: &UsageHistory) -> String {
    let row = |point: &UsagePoint| {
        let numbers = [
            point.entries,
            point.bytes,
            point.reads,
            point.hits,
            point.received_bytes,
            point.sent_bytes,
            point.origin_reads,
        ];
        let mut fields = vec![point.at.to_string(), point.covered_seconds.to_string()];
        fields.extend(numbers.map(|number| number.to_string()));
        fields.push(point.origin_saved_seconds.to_string());
        let last = [point.evictions, point.expirations, point.refusals];
        fields.extend(last.map(|number| number.to_string()));
        fields.join(",")
    };
    let lines = std::iter::once(COLUMNS.join(",")).chain(history.items.iter().map(row));
    lines.collect::<Vec<_>>().join("\n")
}

/// A time saved, which may be days: `1h 5m`, or with fractions of a second.
fn saved(seconds: f64) -> String {
    match seconds {
        seconds if seconds >= 10.0 => figures::time(Duration::from_secs_f64(seconds)),
        seconds => format!("{seconds:.1}s"),
    }
}

fn cells(point: &UsagePoint) -> Vec<String> {
    let ratio = (point.reads > 0).then(|| point.hits as f64 / point.reads as f64);
    vec![
        figures::bytes(point.bytes),
        figures::count(point.entries),
        figures::count(point.reads),
        figures::share(ratio),
        figures::bytes(point.received_bytes),
        figures::bytes(point.sent_bytes),
        figures::count(point.origin_reads),
        saved(point.origin_saved_seconds),
        figures::count(point.evictions),
        figures::count(point.expirations),
        figures::count(point.refusals),
    ]
}

fn report(history: &UsageHistory) -> String {
    let Some(last) = history.items.last() else {
        return "nothing was counted in this time".to_owned();
    };
    let length = Duration::from_secs(history.step_seconds);
    let format = if history.step_seconds < 60 { "%m-%d %H:%M:%S" } else { "%m-%d %H:%M" };
    let mut rows: Vec<Vec<String>> = Vec::new();
    let mut previous: Option<jiff::Timestamp> = None;
    for point in &history.items {
        let gap = previous.map(|at| point.at.duration_since(at).unsigned_abs());
        if gap.is_some_and(|gap| gap > length) {
            rows.push(vec!["(gap)".to_owned()]);
        }
        previous = Some(point.at);
        let mut row = vec![point.at.strftime(format).to_string()];
        row.extend(cells(point));
        rows.push(row);
    }
    let sum = |of: fn(&UsagePoint) -> u64| history.items.iter().map(of).sum();
    let all = UsagePoint {
        reads: sum(|point| point.reads),
        hits: sum(|point| point.hits),
        received_bytes: sum(|point| point.received_bytes),
        sent_bytes: sum(|point| point.sent_bytes),
        origin_reads: sum(|point| point.origin_reads),
        origin_saved_seconds: history.items.iter().map(|point| point.origin_saved_seconds).sum(),
        evictions: sum(|point| point.evictions),
        expirations: sum(|point| point.expirations),
        refusals: sum(|point| point.refusals),
        ..last.clone()
    };
    let mut row = vec!["all".to_owned()];
    row.extend(cells(&all));
    rows.push(row);
    let titles = [
        "from (UTC)",
        ">memory",
        ">entries",
        ">reads",
        ">hit ratio",
        ">received",
        ">sent",
        ">origin",
        ">saved",
        ">evicted",
        ">expired",
        ">refused",
    ];
    table(&titles, rows)
}
