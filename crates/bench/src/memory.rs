//! The overhead of an entry beyond its key and value, by the process's resident memory.

use std::fs;
use std::process::Command;
use std::time::Duration;

use comfy_table::Table;
use verax_core::{Entry, Key, Lifetime, NamespaceId, Precondition, Quota, Store, Tag, Timestamp};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const ENTRIES: u64 = 1_000_000;
const LIMIT: u64 = 64 << 20;

/// The resident memory of this process, in bytes (proc(5)).
pub(crate) fn resident() -> Result<u64, Failure> {
    let statm = fs::read_to_string("/proc/self/statm")?;
    let pages: u64 = statm.split(' ').nth(1).ok_or("statm has no second field")?.parse()?;
    Ok(pages * 4_096)
}

/// A mix of the sizes that boards, fares and readings have, the same in every run.
fn size(number: u64) -> usize {
    (number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 33) as usize % 225 + 32
}

/// The metadata of entries beyond key, value and max-age.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum More {
    Nothing,
    StaleTimes,
    Tag,
}

impl More {
    const ALL: [(&str, More); 3] = [
        ("million", More::Nothing),
        ("million-stale", More::StaleTimes),
        ("million-tag", More::Tag),
    ];
}

fn put(
    partition: &verax_core::Partition,
    number: u64,
    bytes: usize,
    more: More,
) -> Result<u64, Failure> {
    let key = Key::new(format!("board/harbor-{number:07}"))?;
    let (mut lifetime, now) = (Lifetime::of(Duration::from_secs(3_600)), Timestamp::from_millis(0));
    if more == More::StaleTimes {
        lifetime.stale_while_revalidate = Duration::from_secs(60);
        lifetime.stale_if_error = Duration::from_secs(600);
    }
    let mut entry = Entry::new(vec![7; bytes], "application/json", lifetime, now);
    if more == More::Tag {
        let tags: Vec<Tag> = vec![format!("line-{}", number % 1_000).as_str().into()];
        entry = entry.with_tags(tags);
    }
    partition.put(&key, &entry, Precondition::Always, now)?;
    Ok((key.as_str().len() + bytes) as u64)
}

/// The memory of a million entries: payload, counted, resident. Only in a fresh process.
fn million(more: More) -> Result<[u64; 3], Failure> {
    let before = resident()?;
    let store = Store::new(u64::MAX);
    let partition = store.open(NamespaceId(1), Quota::default());
    let mut payload = 0;
    for number in 0..ENTRIES {
        payload += put(&partition, number, size(number), more)?;
    }
    Ok([payload, store.used(), resident()? - before])
}

/// Counted and peak resident memory under a limit, while sizes change and fragment the heap. Also
/// in a fresh process.
fn changing() -> Result<[u64; 3], Failure> {
    let before = resident()?;
    let store = Store::new(LIMIT);
    let partition = store.open(NamespaceId(1), Quota::default());
    let mut highest = 0;
    for (round, bytes) in [100, 3_000, 40, 20_000, 500, 100_000, 200].into_iter().enumerate() {
        let writes = 200_000_000 / (bytes as u64 + 200);
        for number in 0..writes {
            let key = round as u64 * 10_000_000 + number % 3_000_000;
            put(&partition, key, bytes, More::Nothing)?;
            if number % 1_000 == 0 {
                highest = highest.max(resident()?.saturating_sub(before));
            }
        }
    }
    Ok([LIMIT, store.used(), highest])
}

/// Measures one of them, for the process that asked for it.
pub(crate) fn probe(what: &str) -> Result<(), Failure> {
    let numbers = match More::ALL.into_iter().find(|(name, _)| *name == what) {
        Some((_, more)) => million(more)?,
        None => changing()?,
    };
    println!("{}", numbers.map(|n| n.to_string()).join(" "));
    Ok(())
}

fn probed(what: &str) -> Result<[u64; 3], Failure> {
    let output = Command::new(std::env::current_exe()?).args(["--probe", what]).output()?;
    let text = String::from_utf8(output.stdout)?;
    let numbers: Result<Vec<u64>, _> = text.split_whitespace().map(str::parse).collect();
    numbers?.try_into().map_err(|_| format!("the probe said {text:?}").into())
}

/// Memory for each entry, and under a limit.
pub(crate) fn run() -> Result<Table, Failure> {
    let [payload, counted, taken] = probed("million")?;
    let each = |bytes: u64| format!("{:.1} B", bytes as f64 / ENTRIES as f64);
    let mut rows = table(["memory", "measured"]);
    rows.add_row(["1 M entries of 32 to 256 B, keys of 21 B: key and value".into(), each(payload)]);
    rows.add_row(["beyond them, as counted by the store".into(), each(counted - payload)]);
    rows.add_row(["beyond them, by resident memory (goal: 64 B)".into(), each(taken - payload)]);
    let bare = taken;
    for (what, probe) in [
        ("more with both stale times (goal: 16 B)", "million-stale"),
        ("more with one of 1,000 tags (goal: 40 B)", "million-tag"),
    ] {
        let [_, _, taken] = probed(probe)?;
        rows.add_row([what.into(), each(taken.saturating_sub(bare))]);
    }
    let [limit, counted, highest] = probed("changing")?;
    let mib = |bytes: u64| format!("{:.1} MiB", bytes as f64 / f64::from(1 << 20));
    let what =
        format!("sizes changing from 40 B to 100 kB under a limit of {}: counted", mib(limit));
    rows.add_row([what, mib(counted)]);
    rows.add_row(["the same: highest resident memory".into(), mib(highest)]);
    Ok(right_aligned(rows, 1..2))
}
