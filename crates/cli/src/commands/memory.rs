//! `verax memory`: what more memory would buy, and how to divide it.

use std::time::Duration;

use verax_api::{DividedNamespace, MemoryCurve, MemoryDivision, MemoryPoint};
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::MemoryCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

/// About so many points of a curve are listed.
const ROWS: usize = 14;

pub(super) async fn memory(
    verax: &Client,
    output: Output,
    command: MemoryCommand,
) -> Result<(), Failure> {
    match command {
        MemoryCommand::Curve { place } => {
            output.answer(&namespace(verax, &place)?.memory_curve().await?, curve)
        }
        MemoryCommand::Divide => output.answer(&verax.memory_division().await?, division),
    }
}

/// Points at about equal distances, from a thirtieth of the present memory on, and the present one.
fn some_of(curve: &MemoryCurve) -> Vec<(&MemoryPoint, bool)> {
    let least = curve.now.as_ref().map_or(0, |now| now.entries / 30).max(1);
    let shown: Vec<&MemoryPoint> =
        curve.points.iter().filter(|point| point.entries >= least).collect();
    let every = shown.len().div_ceil(ROWS).max(1);
    // Counted from the end, so that the last one is among them.
    let some = shown.iter().rev().step_by(every).map(|point| (*point, false));
    let mut some: Vec<(&MemoryPoint, bool)> = some.collect();
    some.extend(curve.now.iter().map(|now| (now, true)));
    some.sort_by_key(|(point, is_now)| (point.bytes, !is_now));
    some.dedup_by_key(|(point, _)| point.bytes);
    some
}

fn curve(curve: &MemoryCurve) -> String {
    let row = |(point, is_now): (&MemoryPoint, bool)| {
        vec![
            figures::bytes(point.bytes),
            figures::count(point.entries),
            figures::share(Some(point.hit_ratio)),
            format!("{:.1}", point.error * 100.0),
            figures::rate(point.misses_per_second),
            if is_now { "now".to_owned() } else { String::new() },
        ]
    };
    let mut lines = Vec::new();
    if !curve.points.is_empty() {
        let titles = [">memory", ">entries", ">hit ratio", ">± points", ">misses", ""];
        lines.push(table(&titles, some_of(curve).into_iter().map(row)));
        lines.push(String::new());
    }
    lines.extend(curve.remarks.iter().cloned());
    if curve.points.is_empty() {
        return lines.join("\n");
    }
    if let Some(measured) = curve.measured_hit_ratio {
        lines.push(format!(
            "Measured over the last five minutes: {} of {}.",
            figures::share(Some(measured)),
            figures::rate(curve.reads_per_second)
        ));
    }
    lines.push(format!(
        "Observed for {}: {} reads of {} sampled keys, {} of all; {} of the reads are of {} keys known by their rate.",
        figures::time(Duration::try_from_secs_f64(curve.observed_seconds).unwrap_or_default()),
        figures::count(curve.sampled_reads),
        figures::count(curve.sampled_keys),
        figures::share(Some(curve.sampled_fraction)),
        figures::share(Some(curve.known_share)),
        figures::count(curve.known_keys),
    ));
    lines.join("\n")
}

fn division(division: &MemoryDivision) -> String {
    let row = |row: &DividedNamespace| {
        let then = if row.is_known { figures::bytes(row.bytes_then) } else { "unknown".to_owned() };
        vec![
            format!("{}/{}", row.tenant, row.namespace),
            figures::bytes(row.bytes_now),
            then,
            figures::bytes(row.reserve_bytes),
            figures::rate(row.reads_per_second),
            figures::share(row.hit_ratio_now),
            figures::share(row.hit_ratio_then),
        ]
    };
    let titles = [
        "namespace",
        ">memory now",
        ">suggested",
        ">reserve now",
        ">reads",
        ">hit ratio now",
        ">hit ratio then",
    ];
    let mut lines = Vec::new();
    if !division.namespaces.is_empty() {
        lines.push(table(&titles, division.namespaces.iter().map(row)));
        lines.push(String::new());
    }
    lines.extend(division.remarks.iter().cloned());
    lines.push(format!(
        "Divided: {}. Misses now {}, then {}.",
        figures::bytes(division.bytes),
        figures::rate(division.misses_per_second_now),
        figures::rate(division.misses_per_second_then),
    ));
    let gaining = |row: &&DividedNamespace| {
        row.is_known
            && row.bytes_then > row.reserve_bytes
            && row.bytes_then > row.bytes_now + row.bytes_now / 20
    };
    let is_better = division.hit_ratio_then - division.hit_ratio_now >= 0.005;
    let first = division.namespaces.iter().find(gaining).filter(|_| is_better);
    if let Some(row) = first {
        lines.push(format!(
            "To give the first its part: verax namespace change {}/{} --reserve {}",
            row.tenant,
            row.namespace,
            figures::bytes(row.bytes_then).replace(' ', "")
        ));
    }
    lines.join("\n")
}
