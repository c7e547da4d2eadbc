//! The curve of the hit ratio by memory: how exact it is against full simulation.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::{Duration, Instant};

use comfy_table::Table;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::Zipf;
use verax_core::heat::HeatSketch;
use verax_core::memory_curve::{AllReads, ReuseObservation};
use verax_core::store::{ReuseSample, SampledRead, place_of};
use verax_core::{Lifetime, Timestamp};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Reads of a stream, at 1,000 a second.
const READS: u64 = 1_000_000;

/// The numbers of entries at which a curve is compared.
const CAPACITIES: [usize; 7] = [30, 100, 300, 1_000, 3_000, 10_000, 30_000];

/// A least-recently-used cache.
struct Simulated {
    capacity: usize,
    entries: HashMap<u64, u64>,
    by_read: BTreeMap<u64, u64>,
    hits: u64,
}

impl Simulated {
    fn read(&mut self, key: u64, number: u64) {
        if let Some(before) = self.entries.insert(key, number) {
            self.by_read.remove(&before);
            self.hits += 1;
        }
        self.by_read.insert(number, key);
        if self.entries.len() > self.capacity
            && let Some((_, least)) = self.by_read.pop_first()
        {
            self.entries.remove(&least);
        }
    }
}

fn hash_of(key: u64) -> u64 {
    // splitmix64 (Steele, Lea and Flood, 2014).
    let mut mixed = key.wrapping_add(0x9e37_79b9_7f4a_7c15);
    mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    mixed ^ (mixed >> 31)
}

/// How well a curve fits.
struct Accuracy {
    /// The largest difference between expected and simulated hit ratio.
    largest: f64,
    /// The mean one.
    mean: f64,
    /// The largest one, as a share of the stated error there.
    of_stated: f64,
    /// The largest stated error.
    stated: f64,
    /// How many keys were followed.
    keys: usize,
    /// The time that the curve took to make.
    took: Duration,
}

fn accuracy(skew: f64, keys: f64, once: f64) -> Result<Accuracy, Failure> {
    let (mut random, zipf) = (ChaCha8Rng::seed_from_u64(17), Zipf::new(keys, skew)?);
    let cache = |capacity| Simulated {
        capacity,
        entries: HashMap::new(),
        by_read: BTreeMap::new(),
        hits: 0,
    };
    let mut caches = CAPACITIES.map(cache);
    let (mut sketch, mut observation) = (HeatSketch::default(), ReuseObservation::default());
    let (mut sample, mut hot) = (ReuseSample::default(), HashSet::new());
    // Classes of hashes as the store has them, so that the hottest are left out as there.
    let class_of = |hash: u64| (hash >> 28) & 0xfff;
    let mut next_once = 1 << 40;
    let mut now = Timestamp::from_millis(0);
    for number in 0..READS {
        let at = Timestamp::from_millis(number);
        if at.as_millis() / 1_000 != now.as_millis() / 1_000 {
            let all = AllReads { reads: number, hits: 0 };
            observation.take(&sample, all, &Lifetime::of(Duration::MAX), at);
            hot = sketch.known().iter().map(|known| class_of(known.hash)).collect();
            sample = ReuseSample { reads: Vec::new(), left_out: hot.len() as f64 / 4_096.0 };
        }
        now = at;
        let key = match random.random_range(0.0..1.0) < once {
            true => {
                next_once += 1;
                next_once
            }
            false => random.sample(zipf) as u64,
        };
        let hash = hash_of(key);
        sketch.note(hash, &key.to_string(), true, 1.0, now);
        if place_of(hash) < observation.threshold() && !hot.contains(&class_of(hash)) {
            sample.reads.push(SampledRead { key: hash, at: now });
        }
        if number == READS / 2 {
            caches.iter_mut().for_each(|cache| cache.hits = 0);
        }
        caches.iter_mut().for_each(|cache| cache.read(key, number));
    }
    let began = Instant::now();
    let curve = observation.curve(&sketch.known(), now).ok_or("too little was observed")?;
    let took = began.elapsed();
    let (mut errors, mut accuracy) = (Vec::new(), (0.0_f64, 0.0_f64));
    for cache in &caches {
        let point = curve.point_at(cache.capacity as f64);
        let real = cache.hits as f64 / (READS - READS / 2) as f64;
        let error = (point.hit_ratio - real).abs();
        errors.push(error);
        accuracy = (accuracy.0.max(error / point.error), accuracy.1.max(point.error));
    }
    Ok(Accuracy {
        largest: errors.iter().copied().fold(0.0, f64::max),
        mean: errors.iter().sum::<f64>() / errors.len() as f64,
        of_stated: accuracy.0,
        stated: accuracy.1,
        keys: curve.sampled_keys,
        took,
    })
}

pub(crate) fn run() -> Result<Table, Failure> {
    let titles = [
        "stream, 1 M reads",
        "read once",
        "keys followed",
        "largest error",
        "mean error",
        "largest stated",
        "error ÷ stated",
        "made in",
    ];
    let mut shown = table(titles);
    let points = |ratio: f64| format!("{:.1} points", ratio * 100.0);
    for (skew, keys) in [(0.7, 10_000.0), (0.7, 300_000.0), (0.9, 100_000.0), (1.1, 100_000.0)] {
        for once in [0.0, 0.2] {
            let accuracy = accuracy(skew, keys, once)?;
            shown.add_row([
                format!("Zipf {skew}, {keys:.0} keys"),
                format!("{:.0} %", once * 100.0),
                accuracy.keys.to_string(),
                points(accuracy.largest),
                points(accuracy.mean),
                points(accuracy.stated),
                format!("{:.2}", accuracy.of_stated),
                format!("{:.2} ms", accuracy.took.as_secs_f64() * 1_000.0),
            ]);
        }
    }
    Ok(right_aligned(shown, 1..8))
}
