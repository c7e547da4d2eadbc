//! Hot keys: how exact the sketch is against exact counts, and what it costs a read.

use std::time::Duration;

use comfy_table::Table;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::Zipf;
use verax_core::Timestamp;
use verax_core::heat::{HALF_LIFE, HeatSketch, MAX_KEYS};

use crate::Options;
use crate::fixture::Fixture;
use crate::metrics::measure;
use crate::rounds::Row;
use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Reads of a stream, at 1,000 a second.
const READS: u64 = 2_000_000;

/// How well the sketch knows a stream.
struct Accuracy {
    /// How many of the ten hottest keys are among its ten.
    found: usize,
    /// The mean error of the ten hottest, as a share of their rates.
    mean_error: f64,
    /// The largest error of a key, as a share of the stated bound *W/k*.
    of_bound: f64,
}

fn accuracy(skew: f64, keys: f64, gap: f64) -> Result<Accuracy, Failure> {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let zipf = Zipf::new(keys, skew)?;
    let mut sketch = HeatSketch::default();
    let mut exact = vec![0.0_f64; keys as usize + 1];
    let end = Timestamp::from_millis(READS);
    let half_life = HALF_LIFE.as_secs_f64();
    for read in 0..READS {
        let now = Timestamp::from_millis(read);
        let key = random.sample(zipf) as u64;
        exact[key as usize] += (-end.since(now).as_secs_f64() / half_life).exp2();
        if random.random_range(0.0..gap) < 1.0 {
            sketch.note(key, &key.to_string(), true, gap, now);
        }
    }
    let decay = std::f64::consts::LN_2 / half_life;
    let of_one = (1.0 - (-decay * end.as_millis() as f64 / 1_000.0).exp()) / decay;
    exact.iter_mut().for_each(|count| *count /= of_one);
    let hot = sketch.hottest(MAX_KEYS, end);
    let bound = hot.reads_per_second / MAX_KEYS as f64;
    let mut order: Vec<usize> = (1..exact.len()).collect();
    order.sort_by(|a, b| exact[*b].total_cmp(&exact[*a]));
    let rate_of = |key: usize| hot.keys.iter().find(|hot| hot.key == key.to_string());
    let found = order[..10]
        .iter()
        .filter(|key| hot.keys[..10].iter().any(|hot| hot.key == key.to_string()));
    let errors: Vec<f64> = order[..10]
        .iter()
        .map(|key| {
            let estimated = rate_of(*key).map_or(0.0, |hot| hot.reads_per_second);
            (estimated - exact[*key]).abs() / exact[*key]
        })
        .collect();
    let over = hot.keys.iter().filter_map(|hot| {
        let key: usize = hot.key.parse().ok()?;
        Some((hot.reads_per_second - exact[key]).abs() / bound)
    });
    Ok(Accuracy {
        found: found.count(),
        mean_error: errors.iter().sum::<f64>() / errors.len() as f64,
        of_bound: over.fold(0.0, f64::max),
    })
}

pub(crate) fn run() -> Result<Table, Failure> {
    let titles = [
        "stream, 2 M reads",
        "sampled",
        "ten hottest found",
        "their mean error",
        "largest error ÷ bound",
    ];
    let mut shown = table(titles);
    for (skew, keys) in [(0.7, 10_000.0), (0.9, 100_000.0), (1.1, 100_000.0)] {
        for gap in [1.0, 16.0] {
            let accuracy = accuracy(skew, keys, gap)?;
            shown.add_row([
                format!("Zipf {skew}, {keys:.0} keys"),
                if gap == 1.0 { "every read".to_owned() } else { format!("1 in {gap}") },
                format!("{} of 10", accuracy.found),
                format!("{:.1} %", accuracy.mean_error * 100.0),
                format!("{:.2}", accuracy.of_bound),
            ]);
        }
    }
    Ok(right_aligned(shown, 2..5))
}

const KEYS: usize = 10_000;

/// What tracking costs a read in process.
pub(crate) fn cost(options: &Options) -> Result<Vec<Row>, Failure> {
    let fixture = Fixture::start(64 << 20)?;
    let keys: Vec<String> = (0..KEYS).map(|n| format!("board/harbor-{n:06}")).collect();
    keys.iter().try_for_each(|key| fixture.put(key, 128))?;
    let time = Duration::from_secs_f64(options.seconds);
    let tracked = |tracks: bool| {
        fixture.reader.track_heat(tracks);
        measure(&fixture, &keys, time, 16, true)
    };
    Ok(vec![Row::take(
        ("service get with heat and reuse tracking, 16 at a time", "the same, not tracked", 0.99),
        options.rounds,
        || tracked(true),
        || tracked(false),
    )])
}
