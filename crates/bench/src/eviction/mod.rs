//! Hit ratios on seeded traces: Verax's store beside policies from the literature and the optimum.

mod optimum;
mod policies;
mod traces;

use comfy_table::Table;

use crate::tables::{right_aligned, table};
use policies::{Lru, Policy, S3Fifo, Sieve, TinyLfu, Verax};
use traces::Trace;

fn hit_ratio(trace: &Trace, mut policy: impl Policy) -> f64 {
    let hits = trace.requests.iter().filter(|(key, size)| policy.request(*key, *size)).count();
    hits as f64 / trace.requests.len() as f64
}

/// Plays every trace to every policy; the same in every run.
pub(crate) fn run() -> Table {
    let mut rows = table([
        "trace, 1 M requests",
        "Verax",
        "optimum",
        "LRU",
        "SIEVE",
        "S3-FIFO",
        "W-TinyLFU",
        "less than the best",
    ]);
    for trace in traces::all() {
        let (capacity, entries) = (trace.capacity, trace.entries);
        let others = [
            hit_ratio(&trace, Lru::new(capacity)),
            hit_ratio(&trace, Sieve::new(capacity)),
            hit_ratio(&trace, S3Fifo::new(capacity)),
            hit_ratio(&trace, TinyLfu::new(capacity, entries)),
        ];
        let verax = hit_ratio(&trace, Verax::new(capacity, entries));
        let best = others.into_iter().fold(0.0, f64::max);
        let percent = |ratio: f64| format!("{:.1} %", ratio * 100.0);
        let behind = match (best - verax) * 100.0 {
            points if points > 0.05 => format!("{points:.1}"),
            _ => "–".to_owned(),
        };
        let mut row =
            vec![trace.name.to_owned(), percent(verax), percent(optimum::optimum(&trace))];
        row.extend(others.map(percent));
        row.push(behind);
        rows.add_row(row);
    }
    right_aligned(rows, 1..8)
}
