//! How throughput and latency change as entries, connections and values grow.

use std::time::Duration;

use comfy_table::Table;

use crate::Options;
use crate::frames::{Drive, Driven, drive};
use crate::rounds::Row;
use crate::tables::{right_aligned, table};
use crate::wire_get::Served;

type Failure = Box<dyn std::error::Error + Send + Sync>;

fn row(what: String, driven: &Driven, value: usize) -> [String; 5] {
    let quantile = |q| driven.latency.quantile(q).unwrap_or_default();
    let ms = |time: Duration| format!("{:.3} ms", time.as_secs_f64() * 1_000.0);
    let mib = driven.per_second * value as f64 / f64::from(1 << 20);
    let rate = crate::rounds::rate(driven.per_second);
    [what, rate, format!("{mib:.0} MiB/s"), ms(quantile(0.5)), ms(quantile(0.99))]
}

/// Reads over the wire, one dimension after the other.
pub(crate) fn run(options: &Options) -> Result<Table, Failure> {
    let time = Duration::from_secs_f64(options.seconds);
    let mut rows = table(["wire get", "replies", "values", "p50", "p99"]);
    let usual = Drive { connections: 64, in_flight: 1, time };
    for entries in [10_000, 100_000, 1_000_000, 10_000_000] {
        let served = Served::start(entries, 128)?;
        drive(served.address, &served.exchange, usual)?;
        let driven = drive(served.address, &served.exchange, usual)?;
        rows.add_row(row(format!("{entries} entries of 128 B, 64 connections"), &driven, 128));
    }
    let served = Served::start(100_000, 128)?;
    for connections in [1, 10, 100, 1_000] {
        let driven = drive(served.address, &served.exchange, Drive { connections, ..usual })?;
        rows.add_row(row(
            format!("100 k entries of 128 B, {connections} connections"),
            &driven,
            128,
        ));
    }
    drop(served);
    for value in [16, 256, 4_096, 65_536, 1 << 20] {
        let served = Served::start(1_000.min((256 << 20) / value), value)?;
        let driven = drive(served.address, &served.exchange, Drive { connections: 16, ..usual })?;
        rows.add_row(row(format!("values of {value} B, 16 connections"), &driven, value));
    }
    Ok(right_aligned(rows, 1..5))
}

/// Ten million entries against ten thousand.
pub(crate) fn entries(options: &Options) -> Result<Vec<Row>, Failure> {
    let (many, few) = (Served::start(10_000_000, 128)?, Served::start(10_000, 128)?);
    let how =
        Drive { connections: 64, in_flight: 1, time: Duration::from_secs_f64(options.seconds) };
    let rate = |served: &Served| {
        drive(served.address, &served.exchange, how).map_or(f64::NAN, |driven| driven.per_second)
    };
    Ok(vec![Row::take(
        ("wire get at 10 M entries, 64 connections", "the same at 10 k entries", 0.80),
        options.rounds,
        || rate(&many),
        || rate(&few),
    )])
}
