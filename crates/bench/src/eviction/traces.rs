//! Seeded traces of requests, each with a shape that some policy finds hard.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, LogNormal, Zipf};

const REQUESTS: usize = 1_000_000;
const KEYS: u64 = 100_000;

/// Requests in order: a key, and the size of its value, which never changes.
#[derive(Debug)]
pub(crate) struct Trace {
    pub(crate) name: &'static str,
    /// How large the cache is, in the unit of the sizes.
    pub(crate) capacity: u64,
    /// About how many entries that is.
    pub(crate) entries: usize,
    pub(crate) requests: Vec<(u64, u32)>,
}

/// Draws ranks by Zipf's law and spreads them over the keys, so that rank and key number have
/// nothing to do with each other.
struct Popular {
    law: Zipf<f64>,
    random: ChaCha8Rng,
}

impl Popular {
    fn new(keys: u64, exponent: f64, seed: u64) -> Option<Self> {
        let law = Zipf::new(keys as f64, exponent).ok()?;
        Some(Self { law, random: ChaCha8Rng::seed_from_u64(seed) })
    }

    fn rank(&mut self) -> u64 {
        self.law.sample(&mut self.random) as u64
    }
}

fn even(name: &'static str, entries: usize, keys: impl Iterator<Item = u64>) -> Trace {
    let requests = keys.take(REQUESTS).map(|key| (key, 1)).collect();
    Trace { name, capacity: entries as u64, entries, requests }
}

fn zipf(name: &'static str, exponent: f64, keys: u64, entries: usize) -> Option<Trace> {
    let mut popular = Popular::new(keys, exponent, 1)?;
    Some(even(name, entries, std::iter::repeat_with(move || popular.rank())))
}

/// Every 2,000 requests the popularity moves on by a two-hundredth of what fits: what was hottest
/// becomes cold.
fn drifting(name: &'static str, keys: u64, entries: usize) -> Option<Trace> {
    let mut popular = Popular::new(keys, 0.9, 2)?;
    let step = entries as u64 / 200;
    let keys = (0..).map(move |n: u64| popular.rank() + n / 2_000 * step);
    Some(even(name, entries, keys))
}

/// Popular reads, through which every 50,000 requests a scan of 20,000 keys runs that are read
/// once and never again.
fn scan(name: &'static str, entries: usize) -> Option<Trace> {
    let mut popular = Popular::new(KEYS, 0.9, 3)?;
    let keys = (0..).map(move |n: u64| match n % 50_000 {
        at if at < 20_000 => 10 * KEYS + n,
        _ => popular.rank(),
    });
    Some(even(name, entries, keys))
}

/// Keys in turn, more of them than fit.
fn cycle(name: &'static str, keys: u64, entries: usize) -> Trace {
    even(name, entries, (0..).map(move |n: u64| n % keys))
}

/// In turn by hundreds: popular reads, a loop, a scan, and drifting reads.
fn mixed(name: &'static str, entries: usize) -> Option<Trace> {
    let mut popular = Popular::new(KEYS, 1.0, 4)?;
    let mut moving = Popular::new(KEYS, 0.8, 5)?;
    let keys = (0..).map(move |n: u64| match n / 100 % 8 {
        0..4 => popular.rank(),
        4..6 => 20 * KEYS + (n / 800 * 200 + n % 200) % (2 * entries as u64),
        6 => 30 * KEYS + n,
        _ => 40 * KEYS + moving.rank() + n / 1_000 * 20,
    });
    Some(even(name, entries, keys))
}

/// Popular reads of values from some bytes to some hundred kilobytes, size and popularity apart.
fn sized(name: &'static str, capacity: u64) -> Option<Trace> {
    let mut popular = Popular::new(KEYS, 0.9, 6)?;
    let law = LogNormal::<f64>::new(7.0, 1.5).ok()?;
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let sizes: Vec<u32> =
        (0..=KEYS).map(|_| law.sample(&mut random).clamp(16.0, 1_000_000.0) as u32).collect();
    let requests = std::iter::repeat_with(|| popular.rank()).take(REQUESTS);
    let requests = requests.map(|key| (key, sizes[key as usize])).collect();
    Some(Trace { name, capacity, entries: (capacity / 3_400) as usize, requests })
}

/// Every trace; the same in every run.
pub(crate) fn all() -> Vec<Trace> {
    [
        zipf("Zipf 0.7, room for 10 %", 0.7, KEYS, 10_000),
        zipf("Zipf 0.9, room for 1 %", 0.9, 10 * KEYS, 10_000),
        zipf("Zipf 0.9, room for 10 %", 0.9, KEYS, 10_000),
        zipf("Zipf 1.1, room for 1 %", 1.1, 10 * KEYS, 10_000),
        drifting("drifting Zipf 0.9, room for 1 %", 10 * KEYS, 10_000),
        drifting("drifting Zipf 0.9, room for 10 %", KEYS, 10_000),
        scan("scans through Zipf 0.9, room for 10 %", 10_000),
        Some(cycle("loop of 12,000 keys, room for 10,000", 12_000, 10_000)),
        Some(cycle("loop of 30,000 keys, room for 10,000", 30_000, 10_000)),
        mixed("mixed, room for 10,000", 10_000),
        sized("Zipf 0.9 of many sizes, room for 10 %", 34_000_000),
        sized("Zipf 0.9 of many sizes, room for 1 %", 3_400_000),
    ]
    .into_iter()
    .flatten()
    .collect()
}
