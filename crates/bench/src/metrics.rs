//! The cost of counting: a read counted as the wire counts it, against the same read uncounted.

use std::time::{Duration, Instant};

use verax_engine::cache::Cached;

use crate::Options;
use crate::fixture::Fixture;
use crate::rounds::Row;

const KEYS: usize = 10_000;
const THREADS: usize = 2;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Reads per second of `THREADS` threads, `each` keys at a time.
pub(crate) fn measure(
    fixture: &Fixture,
    keys: &[String],
    time: Duration,
    each: usize,
    counted: bool,
) -> f64 {
    let started = Instant::now();
    let looked_up: u64 = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..THREADS)
            .map(|thread| {
                scope.spawn(move || {
                    let (service, reader) = (&fixture.service, &fixture.reader);
                    let mut keys = keys.iter().cycle().skip(thread * KEYS / THREADS);
                    let mut found = 0;
                    let mut seen = 0u64;
                    while started.elapsed() < time {
                        // As in one socket read: one clock reading, one count.
                        for _ in 0..1_024 / each {
                            let began = Instant::now();
                            let now = service.engine().now();
                            let mut hits = 0;
                            for key in keys.by_ref().take(each) {
                                let cached = reader.cached(key, now, |visited, _| {
                                    seen = seen.wrapping_add(visited.value().len() as u64);
                                });
                                hits += u64::from(cached == Cached::Hit);
                            }
                            if counted {
                                let took = began.elapsed() / u32::try_from(each).unwrap_or(1);
                                reader.count_hits(hits, 0, 0, took);
                            }
                            found += hits;
                        }
                    }
                    std::hint::black_box(seen);
                    found
                })
            })
            .collect();
        threads.into_iter().filter_map(|thread| thread.join().ok()).sum()
    });
    looked_up as f64 / started.elapsed().as_secs_f64()
}

pub(crate) fn run(options: &Options) -> Result<Vec<Row>, Failure> {
    let fixture = Fixture::start(64 << 20)?;
    let keys: Vec<String> = (0..KEYS).map(|n| format!("board/harbor-{n:06}")).collect();
    keys.iter().try_for_each(|key| fixture.put(key, 128))?;
    let time = Duration::from_secs_f64(options.seconds);
    let row = |what: &str, each| {
        Row::take(
            (what, "the same, not counted", 0.97),
            options.rounds,
            || measure(&fixture, &keys, time, each, true),
            || measure(&fixture, &keys, time, each, false),
        )
    };
    Ok(vec![
        row("service get, counted, one at a time", 1),
        row("service get, counted, 16 at a time", 16),
    ])
}
