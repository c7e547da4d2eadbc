//! The first page of each view of a namespace with ten million entries.

use std::time::{Duration, Instant};

use comfy_table::Table;
use verax_core::store::{EntryFilter, EntryOrder, EntryState, Position};
use verax_core::{
    Entry, Key, Lifetime, NamespaceId, Partition, Precondition, Quota, Store, Tag, Timestamp,
};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const ENTRIES: u64 = 10_000_000;

/// How often each view is taken.
const TIMES: usize = 20;

/// The entries of a page.
const PAGE: usize = 100;

fn fill(partition: &Partition) -> Result<(), Failure> {
    let now = Timestamp::from_millis(0);
    let tags: Vec<Tag> = vec!["north".into()];
    for number in 0..ENTRIES {
        let (size, seconds) = (32 + number * 7 % 64, 30 + number * 13 % 3_600);
        let lifetime = Lifetime::of(Duration::from_secs(seconds));
        let mut entry = Entry::new(vec![7; size as usize], "application/json", lifetime, now);
        if number.is_multiple_of(1_000) {
            entry = entry.with_tags(tags.clone());
        }
        let key = Key::new(format!("gauge/{:02}/{number}", number % 100))?;
        partition.put(&key, &entry, Precondition::Always, now)?;
    }
    Ok(())
}

/// The median and the longest time of a view, in milliseconds.
fn timed(mut view: impl FnMut() -> usize) -> (f64, f64) {
    let mut times: Vec<f64> = (0..TIMES)
        .map(|_| {
            let started = Instant::now();
            std::hint::black_box(view());
            started.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    times.sort_by(f64::total_cmp);
    (times[TIMES / 2], times[TIMES - 1])
}

/// Every filter as a page, and every order as a sample.
pub(crate) fn run() -> Result<Table, Failure> {
    let store = Store::new(8 << 30);
    let partition = store.open(NamespaceId(1), Quota::default());
    fill(&partition)?;
    let now = Timestamp::from_millis(20_000);
    let filters = [
        ("all", EntryFilter::default()),
        ("a prefix of 1 % of the entries", EntryFilter::prefix("gauge/07/")),
        ("a prefix of none", EntryFilter::prefix("board/")),
        ("a tag of 0.1 %", EntryFilter { tag: Some("north"), ..EntryFilter::default() }),
        (
            "those that end soon",
            EntryFilter { state: Some(EntryState::EndsSoon), ..EntryFilter::default() },
        ),
    ];
    let mut rows = table(["view of 10 M entries", "found", "p50", "longest", "goal"]);
    let mut row = |what: String, found: usize, (p50, longest): (f64, f64)| {
        let ms = |time: f64| format!("{time:.2} ms");
        rows.add_row([what, found.to_string(), ms(p50), ms(longest), "100 ms".to_owned()]);
    };
    for (what, filter) in &filters {
        let page = || partition.list(filter, Position::default(), PAGE, now).entries.len();
        row(format!("first page of {what}"), page(), timed(page));
    }
    for (order, name) in EntryOrder::ALL {
        let filter = EntryFilter::default();
        let sample = || partition.sample(&filter, order, PAGE, now).entries.len();
        row(format!("the {name} of a sample"), sample(), timed(sample));
    }
    Ok(right_aligned(rows, 1..5))
}
