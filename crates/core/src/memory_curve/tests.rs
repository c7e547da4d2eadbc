//! Curves against full simulation.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::Zipf;
use rstest::rstest;

use super::*;
use crate::heat::HeatSketch;
use crate::lifetime::Lifetime;
use crate::store::{MAX_REUSE_READS, ReuseSample, SampledRead, WHOLE, place_of};
use crate::time::Timestamp;

/// A least-recently-used cache whose entries also end.
#[derive(Default)]
struct Simulated {
    entries: HashMap<u64, (u64, Timestamp)>,
    by_read: BTreeMap<u64, u64>,
    capacity: usize,
    hits: u64,
    reads: u64,
}

impl Simulated {
    fn read(&mut self, key: u64, number: u64, lifetime: Duration, now: Timestamp) {
        self.reads += 1;
        let there = self.entries.get(&key).copied();
        let mut stored_at = now;
        if let Some((read, stored)) = there {
            self.by_read.remove(&read);
            if now.since(stored) < lifetime {
                self.hits += 1;
                stored_at = stored;
            }
        }
        self.entries.insert(key, (number, stored_at));
        self.by_read.insert(number, key);
        if self.entries.len() > self.capacity {
            // What has ended goes first, as tidying does.
            let (_, least) = self.by_read.pop_first().unwrap();
            self.entries.remove(&least);
        }
    }

    fn tidy(&mut self, lifetime: Duration, now: Timestamp) {
        let by_read = &mut self.by_read;
        self.entries.retain(|_, (read, stored)| {
            let lives = now.since(*stored) < lifetime;
            if !lives {
                by_read.remove(read);
            }
            lives
        });
    }
}

fn hash_of(key: u64) -> u64 {
    // splitmix64 (Steele, Lea and Flood, 2014).
    let mut mixed = key.wrapping_add(0x9e37_79b9_7f4a_7c15);
    mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    mixed ^ (mixed >> 31)
}

/// What the store does: hot classes of hashes are not sampled.
fn class_of(hash: u64) -> u64 {
    (hash >> 28) & 0xfff
}

/// A seeded stream of reads.
struct Stream {
    random: ChaCha8Rng,
    zipf: Zipf<f64>,
    /// The share of reads whose key is read once.
    once: f64,
    next_once: u64,
}

impl Stream {
    fn new(seed: u64, keys: f64, skew: f64, once: f64) -> Self {
        let (random, zipf) = (ChaCha8Rng::seed_from_u64(seed), Zipf::new(keys, skew).unwrap());
        Self { random, zipf, once, next_once: 1 << 40 }
    }

    fn next(&mut self) -> u64 {
        if self.once > 0.0 && self.random.random_range(0.0..1.0) < self.once {
            self.next_once += 1;
            return self.next_once;
        }
        self.random.sample(self.zipf) as u64
    }
}

const START: Timestamp = Timestamp::from_millis(1_000_000);

/// Reads a stream at `rate` a second, and returns the curve and what each capacity really has, each
/// after the first half of the reads.
fn observe(
    mut stream: Stream,
    reads: u64,
    rate: u64,
    lifetime: Duration,
    capacities: &[usize],
) -> (MemoryCurve, Vec<f64>) {
    let mut caches: Vec<Simulated> = capacities
        .iter()
        .map(|capacity| Simulated { capacity: *capacity, ..Default::default() })
        .collect();
    let mut sketch = HeatSketch::default();
    let mut observation = ReuseObservation::default();
    let (mut sample, mut hot) = (ReuseSample::default(), HashSet::new());
    let mut now = START;
    for number in 0..reads {
        let at = START + Duration::from_micros(number * 1_000_000 / rate);
        if at.as_millis() / 1_000 != now.as_millis() / 1_000 {
            let all = AllReads { reads: number, hits: 0 };
            observation.take(&sample, all, &Lifetime::of(lifetime), at);
            hot = sketch.known().iter().map(|known| class_of(known.hash)).collect();
            sample = ReuseSample { reads: Vec::new(), left_out: hot.len() as f64 / 4_096.0 };
            caches.iter_mut().for_each(|cache| cache.tidy(lifetime, at));
        }
        now = at;
        let key = stream.next();
        let hash = hash_of(key);
        sketch.note(hash, &key.to_string(), true, 1.0, now);
        if place_of(hash) < observation.threshold() && !hot.contains(&class_of(hash)) {
            sample.reads.push(SampledRead { key: hash, at: now });
        }
        if number == reads / 2 {
            caches.iter_mut().for_each(|cache| (cache.hits, cache.reads) = (0, 0));
        }
        caches.iter_mut().for_each(|cache| cache.read(key, number, lifetime, now));
    }
    let curve = observation.curve(&sketch.known(), now).unwrap();
    let real = caches.iter().map(|cache| cache.hits as f64 / cache.reads as f64).collect();
    (curve, real)
}

const CAPACITIES: [usize; 6] = [30, 100, 300, 1_000, 3_000, 10_000];

#[rstest]
fn curves_are_within_their_bound_of_full_simulation(
    #[values(0.7, 1.1)] skew: f64,
    #[values(2_000.0, 200_000.0)] keys: f64,
    #[values(0.0, 0.2)] once: f64,
) {
    let stream = Stream::new(7, keys, skew, once);
    let (curve, real) = observe(stream, 200_000, 1_000, Duration::MAX, &CAPACITIES);
    for (capacity, real) in CAPACITIES.into_iter().zip(real) {
        let point = curve.point_at(capacity as f64);
        if (capacity as f64) < curve.most_entries() {
            assert!((point.hit_ratio - real).abs() <= point.error, "{capacity}: {real} {point:?}");
        }
    }
}

#[rstest]
fn more_memory_does_not_outlive_the_lifetime(#[values(10, 60)] seconds: u64) {
    let lifetime = Duration::from_secs(seconds);
    let stream = Stream::new(11, 5_000.0, 0.9, 0.0);
    let (curve, real) = observe(stream, 200_000, 1_000, lifetime, &CAPACITIES);
    for (capacity, real) in CAPACITIES.into_iter().zip(real) {
        let point = curve.point_at(capacity as f64);
        assert!((point.hit_ratio - real).abs() <= point.error, "{capacity}: {real} {point:?}");
    }
    // Entries end before there are as many as keys.
    assert!(curve.most_entries() < 5_000.0, "{}", curve.most_entries());
}

#[test]
fn memory_stays_bounded_and_the_sample_follows_the_number_of_keys() {
    let mut observation = ReuseObservation::default();
    let mut next = 0;
    let mut take =
        |observation: &mut ReuseObservation, seconds: std::ops::Range<u64>, keys: u64| {
            for second in seconds {
                let at = START + Duration::from_secs(second);
                let reads = (0..1_000).filter_map(|_| {
                    next = (next + 1) % keys;
                    let key = hash_of(next);
                    (place_of(key) < observation.threshold()).then_some(SampledRead { key, at })
                });
                let sample = ReuseSample { reads: reads.collect(), left_out: 0.0 };
                let all = AllReads { reads: second * 1_000, hits: 0 };
                observation.take(&sample, all, &Lifetime::of(Duration::MAX), at);
                assert!(observation.followed() <= MAX_SAMPLED_KEYS);
            }
        };
    take(&mut observation, 0..400, 100_000);
    let threshold = observation.threshold();
    assert!(observation.followed() > MAX_SAMPLED_KEYS / 4, "{}", observation.followed());
    assert!(threshold <= WHOLE / 32, "{threshold}");
    // What is not read any more is given up, and a larger part of the few keys is sampled.
    let later = 8 * 3_600 + 400;
    take(&mut observation, later..later + 1_000, 500);
    assert_eq!((observation.threshold(), observation.followed()), (WHOLE, 500));
}

#[test]
fn a_sample_that_lost_reads_begins_anew_with_fewer_keys() {
    let mut observation = ReuseObservation::default();
    let read = |number: usize| SampledRead { key: hash_of(number as u64), at: START };
    let of = |reads: usize| ReuseSample { reads: (0..reads).map(read).collect(), left_out: 0.0 };
    let all = AllReads { reads: 10_000, hits: 0 };
    let lifetime = Lifetime::of(Duration::MAX);
    observation.take(&of(2_000), all, &lifetime, START);
    assert_eq!((observation.threshold(), observation.followed()), (WHOLE, 2_000));
    observation.take(&of(MAX_REUSE_READS), all, &lifetime, START);
    assert_eq!((observation.threshold(), observation.followed()), (WHOLE / 2, 0));
}

#[test]
fn too_little_says_nothing() {
    let mut observation = ReuseObservation::default();
    assert_eq!(observation.curve(&[], START), None);
    let read = |number: u64| SampledRead { key: hash_of(number), at: START };
    let sample = ReuseSample { reads: (0..63).map(read).collect(), left_out: 0.0 };
    let all = AllReads { reads: 1_000, hits: 900 };
    let after = START + Duration::from_secs(10);
    observation.take(&sample, all, &Lifetime::of(Duration::MAX), after);
    assert_eq!(observation.curve(&[], after), None);
    assert_eq!(observation.measured_hit_ratio(), Some(0.9));
    observation.take(
        &ReuseSample { reads: vec![read(64)], ..sample },
        all,
        &Lifetime::of(Duration::MAX),
        after,
    );
    assert!(observation.curve(&[], after).is_some());
}
