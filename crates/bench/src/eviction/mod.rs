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

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    use super::*;

    /// Requests for one of `keys` keys, some far more often than others, of one size or several.
    fn random(seed: u64, keys: u64, largest: u32) -> Trace {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let sizes: Vec<u32> = (0..keys).map(|_| random.random_range(1..=largest)).collect();
        let requests = (0..5_000).map(|_| {
            let key = random.random_range(0..keys).min(random.random_range(0..keys));
            (key, sizes[key as usize])
        });
        Trace { name: "random", capacity: 100, entries: 100, requests: requests.collect() }
    }

    #[test]
    fn no_policy_beats_the_optimum() {
        for (seed, largest) in [(1, 1), (2, 1), (3, 9), (4, 40)] {
            let trace = random(seed, 400, largest);
            let optimum = optimum::optimum(&trace);
            let all = [
                hit_ratio(&trace, Lru::new(100)),
                hit_ratio(&trace, Sieve::new(100)),
                hit_ratio(&trace, S3Fifo::new(100)),
                hit_ratio(&trace, TinyLfu::new(100, 100)),
            ];
            assert!(
                all.iter().all(|ratio| *ratio > 0.005 && *ratio <= optimum),
                "{all:?} {optimum}"
            );
        }
    }

    #[test]
    fn the_optimum_keeps_the_key_that_returns_soonest() {
        // Room for two: by hand, 3 is not kept, so the second 1, the second 2 and the last 1 are
        // hits.
        let requests = [1, 2, 1, 3, 2, 1].map(|key| (key, 1)).to_vec();
        let trace = Trace { name: "by hand", capacity: 2, entries: 2, requests };
        assert_eq!(optimum::optimum(&trace), 3.0 / 6.0);
    }

    #[test]
    fn traces_are_the_same_in_every_run() {
        let (one, other) = (traces::all(), traces::all());
        for (one, other) in one.iter().zip(&other) {
            assert_eq!(one.requests, other.requests, "{}", one.name);
            assert_eq!(one.requests.len(), 1_000_000);
        }
    }
}
