//! What an entry takes beyond its key and value, by the process's own resident memory.

use std::fs;
use std::time::Duration;

use comfy_table::Table;
use verax_core::{Entry, Key, Lifetime, NamespaceId, PutCondition, Quota, Store, Timestamp};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const ENTRIES: u64 = 1_000_000;

/// The resident memory of this process, in bytes (proc(5)).
fn resident() -> Result<u64, Failure> {
    let statm = fs::read_to_string("/proc/self/statm")?;
    let pages: u64 = statm.split(' ').nth(1).ok_or("statm has no second field")?.parse()?;
    Ok(pages * 4_096)
}

/// A mix of the sizes that boards, fares and readings have, the same in every run.
fn size(number: u64) -> usize {
    (number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 33) as usize % 225 + 32
}

fn put(partition: &verax_core::Partition, number: u64, bytes: usize) -> Result<u64, Failure> {
    let key = Key::new(format!("board/harbour-{number:07}"))?;
    let (lifetime, now) = (Lifetime::of(Duration::from_secs(3_600)), Timestamp::from_millis(0));
    let entry = Entry::new(vec![7; bytes], "application/json", lifetime, now);
    partition.put(&key, &entry, PutCondition::Always, now)?;
    Ok((key.as_str().len() + bytes) as u64)
}

/// Memory for each entry of a million, and the process after much has come and gone.
pub(crate) fn run() -> Result<Table, Failure> {
    let before = resident()?;
    let store = Store::new(u64::MAX);
    let partition = store.open(NamespaceId(1), Quota::default());
    let mut payload = 0;
    for number in 0..ENTRIES {
        payload += put(&partition, number, size(number))?;
    }
    let (counted, taken) = (store.used(), resident()? - before);
    let each = |bytes: u64| format!("{:.1} B", bytes as f64 / ENTRIES as f64);
    let mut rows = table(["1 M entries of 32 to 256 B, keys of 21 B", "for each entry"]);
    rows.add_row(["key and value".into(), each(payload)]);
    rows.add_row(["beyond them, as counted by the store".into(), each(counted - payload)]);
    rows.add_row(["beyond them, by resident memory (goal: 64 B)".into(), each(taken - payload)]);
    drop((partition, store));

    // Sizes that change under a limit leave holes behind, which the limit does not know of.
    let before = resident()?;
    let limit = 64 << 20;
    let store = Store::new(limit);
    let partition = store.open(NamespaceId(1), Quota::default());
    let mut highest = 0;
    for (round, bytes) in [100, 3_000, 40, 20_000, 500, 100_000, 200].into_iter().enumerate() {
        let writes = 200_000_000 / (bytes as u64 + 200);
        for number in 0..writes {
            put(&partition, round as u64 * 10_000_000 + number % 3_000_000, bytes)?;
        }
        highest = highest.max(resident()?.saturating_sub(before));
    }
    let mib = |bytes: u64| format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20));
    rows.add_row([
        "under a limit of 64 MiB, sizes changing from 40 B to 100 kB: counted".into(),
        mib(store.used()),
    ]);
    rows.add_row(["the same: highest resident memory beyond that before".into(), mib(highest)]);
    Ok(right_aligned(rows, 1..2))
}
