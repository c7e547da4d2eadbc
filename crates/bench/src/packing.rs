//! What storing values compressed saves in memory, and what it costs in time.

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};

use comfy_table::Table;
use verax_core::{Entry, Key, Lifetime, NamespaceId, Precondition, Quota, Store, Timestamp};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Entries of each size.
const ENTRIES: usize = 500;

/// A departure board of about so many bytes, as the demo has them.
fn board(bytes: usize, seed: usize) -> String {
    let mut text = String::from("{\"of\":{\"harbor\":\"aldermouth\"},\"rows\":[");
    let mut row = seed;
    while text.len() < bytes {
        row = row.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let (hour, minute, line) = (row >> 33 & 15, row >> 40 & 31, row >> 48 & 63);
        // Writing to a text cannot fail.
        let _ = write!(
            text,
            "{{\"departs\":\"2026-11-26 {:02}:{:02}\",\"line\":\"L{line}\",\"to\":\"harbor-{}\",\"vessel\":\"vessel-{}\",\"places\":{},\"delay_minutes\":{}}},",
            7 + hour,
            minute,
            row >> 20 & 127,
            row >> 27 & 127,
            row >> 13 & 511,
            row >> 9 & 15
        );
    }
    text + "{}]}"
}

/// The memory per entry, and the median time to prepare and store, and to read all of the value.
fn measured(values: &[String], above: Option<u64>) -> Result<(u64, Duration, Duration), Failure> {
    let store = Store::new(1 << 30);
    let partition = store.open(NamespaceId(1), Quota::default());
    let now = Timestamp::from_millis(0);
    let lifetime = Lifetime::of(Duration::from_secs(60));
    let (mut puts, mut gets) = (Vec::new(), Vec::new());
    for (number, value) in values.iter().enumerate() {
        let key = Key::new(format!("board/{number}"))?;
        let entry = Entry::new(value.clone(), "application/json", lifetime, now);
        let started = Instant::now();
        partition.put(&key, &entry.packed_above(above), Precondition::Always, now)?;
        puts.push(started.elapsed());
        let started = Instant::now();
        let found = partition.get(key.as_str(), now).ok_or("it is gone")?;
        // As a reader that sends it does.
        let sum: u64 = found.value().iter().map(|byte| u64::from(*byte)).sum();
        black_box(sum);
        gets.push(started.elapsed());
        if found.value() != value.as_bytes() {
            return Err("a value is not what it was".into());
        }
    }
    puts.sort_unstable();
    gets.sort_unstable();
    let bytes = partition.usage().bytes / values.len() as u64;
    Ok((bytes, puts[values.len() / 2], gets[values.len() / 2]))
}

/// Boards of several sizes, as they are and compressed.
pub(crate) fn run() -> Result<Table, Failure> {
    let titles = ["value", "memory", "compressed", "saved", "put added", "get added"];
    let mut rows = table(titles);
    for bytes in [512, 2 << 10, 16 << 10, 128 << 10] {
        let values: Vec<String> = (0..ENTRIES).map(|seed| board(bytes, seed)).collect();
        let (plain, plain_put, plain_get) = measured(&values, None)?;
        let (packed, packed_put, packed_get) = measured(&values, Some(256))?;
        let added = |with: Duration, without: Duration| {
            format!("{:.1} µs", with.saturating_sub(without).as_secs_f64() * 1e6)
        };
        rows.add_row([
            format!("{} B of JSON", values[0].len()),
            format!("{plain} B"),
            format!("{packed} B"),
            format!("{:.0} %", 100.0 - 100.0 * packed as f64 / plain as f64),
            added(packed_put, plain_put),
            added(packed_get, plain_get),
        ]);
    }
    Ok(right_aligned(rows, 1..6))
}
