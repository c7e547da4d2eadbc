//! Reads while a million entries expire within a second.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use comfy_table::Table;
use verax_core::meter::{LatencyCounts, LatencyMeter};
use verax_core::{
    Entry, Key, Lifetime, NamespaceId, Partition, Precondition, Quota, Store, Timestamp,
};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const ENTRIES: u64 = 1_000_000;

fn put(partition: &Partition, name: &str, ends: Duration) -> Result<(), Failure> {
    let now = Timestamp::from_millis(0);
    let entry = Entry::new(vec![7; 128], "application/json", Lifetime::of(ends), now);
    partition.put(&Key::new(name)?, &entry, Precondition::Always, now)?;
    Ok(())
}

/// Reads long-lived entries for two seconds while the store is swept as in the service.
fn measure(ending: u64) -> Result<(LatencyCounts, f64), Failure> {
    let store = Arc::new(Store::new(4 << 30));
    let partition = store.open(NamespaceId(1), Quota::default());
    let names: Vec<String> = (0..10_000).map(|n| format!("lasting-{n}")).collect();
    for name in &names {
        put(&partition, name, Duration::from_secs(3_600))?;
    }
    for number in 0..ending {
        // Evenly over the first second.
        let ends = Duration::from_millis(1 + number * 1_000 / ENTRIES);
        put(&partition, &format!("ending-{number}"), ends)?;
    }
    let (meter, over) = (LatencyMeter::default(), AtomicBool::new(false));
    let started = Instant::now();
    let clock = || Timestamp::from_millis(started.elapsed().as_millis() as u64);
    let gone = std::thread::scope(|scope| {
        let tidying = scope.spawn(|| {
            let mut gone = None;
            while !over.load(Ordering::Relaxed) {
                while store.tidy(8, clock()).1 {}
                if gone.is_none() && partition.usage().entries == names.len() as u64 {
                    gone = Some(started.elapsed().as_secs_f64());
                }
                std::thread::sleep(Duration::from_millis(100));
            }
            gone
        });
        let mut at = 0;
        while started.elapsed() < Duration::from_secs(2) {
            let before = Instant::now();
            let found = partition.get(&names[at % names.len()], clock());
            meter.record(before.elapsed());
            assert!(found.is_some(), "what lasts is there");
            at += 7;
        }
        over.store(true, Ordering::Relaxed);
        tidying.join().ok().flatten()
    });
    Ok((meter.counts(), gone.unwrap_or(f64::NAN)))
}

/// The latency of reads without and with the expiry of a million entries.
pub(crate) fn run() -> Result<Table, Failure> {
    let (quiet, _) = measure(0)?;
    let (busy, gone) = measure(ENTRIES)?;
    let us =
        |counts: &LatencyCounts, q| counts.quantile(q).map_or(f64::NAN, |t| t.as_secs_f64() * 1e6);
    let mut rows = table(["store get, one reader beside the tidying", "p50", "p99", "p99.99"]);
    for (what, counts) in [("nothing ends", &quiet), ("1 M entries end within a second", &busy)] {
        let mut row = vec![what.to_owned()];
        row.extend([0.5, 0.99, 0.9999].map(|q| format!("{:.2} µs", us(counts, q))));
        rows.add_row(row);
    }
    let ratio = us(&busy, 0.99) / us(&quiet, 0.99);
    rows.add_row([
        format!("ratio of p99 (goal: 2.00 or less); all memory back after {gone:.2} s"),
        "–".to_owned(),
        format!("{ratio:.2}"),
        "–".to_owned(),
    ]);
    Ok(right_aligned(rows, 1..4))
}
