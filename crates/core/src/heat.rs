//! Which keys are read most: a small sketch with decay.
//!
//! The sketch is Space-Saving (Metwally, Agrawal and El Abbadi, ICDT 2005) over a random sample of
//! the reads, with exponential decay (forward decay: Cormode, Shkapenyuk, Srivastava and Xu, ICDE
//! 2009): a read counts half after [`HALF_LIFE`]. With *k* counters, a key's count is at most
//! *W/k* too high and never too low, where *W* is the decayed weight of all sampled reads;
//! [`HotKey::may_be_over_by`] is the bound of each key. Sampling one read in *g* adds an error
//! whose standard deviation is √(*g* · count).
//!
//! ```
//! use std::time::Duration;
//! use verax_core::{Timestamp, heat::HeatSketch};
//!
//! let mut sketch = HeatSketch::default();
//! let start = Timestamp::from_millis(0);
//! for second in 0..60 {
//!     let now = start + Duration::from_secs(second);
//!     (0..3).for_each(|_| sketch.note(1, "board/aldermouth", true, 1.0, now));
//!     sketch.note(2, "board/brinewick", false, 1.0, now);
//! }
//! let hot = sketch.hottest(10, start + Duration::from_secs(60));
//! assert_eq!(hot.keys[0].key, "board/aldermouth");
//! assert!((hot.keys[0].reads_per_second - 3.0).abs() < 0.1);
//! assert!((hot.keys[0].share - 0.75).abs() < 0.01);
//! ```

use std::collections::HashMap;
use std::time::Duration;

use crate::time::Timestamp;

/// After this time, a read counts half.
pub const HALF_LIFE: Duration = Duration::from_secs(300);

/// The number of counters.
pub const MAX_KEYS: usize = 256;

/// The most bytes of keys. With more, those read least are given up.
const MAX_KEY_TEXT: usize = 64 << 10;

/// Weights are scaled down once the newest is this many times the oldest.
const MAX_SCALE: f64 = 1e12;

/// The reads per second that are sampled of one namespace at most, about.
pub const SAMPLED_PER_SECOND: f64 = 1_000.0;

#[derive(Debug, Clone)]
struct Counter {
    hash: u64,
    key: Box<str>,
    count: f64,
    /// How much of the count may be of keys that had this counter before.
    over: f64,
    /// The part of the count that were hits.
    hits: f64,
}

/// The reads of a namespace by key, in bounded memory: at most about 80 kB.
#[derive(Debug, Clone, Default)]
pub struct HeatSketch {
    counters: Vec<Counter>,
    places: HashMap<u64, usize>,
    key_text: usize,
    total: f64,
    /// The largest count of a key that lost its counter: no key without one has more.
    given_up: f64,
    began: Option<Timestamp>,
    /// Where the scale of weights is 1.
    landmark: Timestamp,
}

/// A key that is read much.
#[derive(Debug, Clone, PartialEq)]
pub struct HotKey {
    /// The key.
    pub key: String,
    /// Reads per second, on average over about the last [`HALF_LIFE`].
    pub reads_per_second: f64,
    /// By how much that may be too high, apart from sampling.
    pub may_be_over_by: f64,
    /// Its share of all reads of the namespace.
    pub share: f64,
    /// The share of its reads that were hits.
    pub hit_ratio: f64,
}

/// The keys that are read most.
#[derive(Debug, Clone, PartialEq)]
pub struct HotKeys {
    /// The keys, hottest first.
    pub keys: Vec<HotKey>,
    /// Reads of all keys per second.
    pub reads_per_second: f64,
    /// For how long reads were observed.
    pub observed: Duration,
}

/// A key whose share of the reads is known well.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KnownKey {
    /// The hash that it was noted with.
    pub hash: u64,
    /// Its share of all reads.
    pub share: f64,
}

/// How much of a key's count may be of other keys for its share to be known well.
const KNOWN_WITHIN: f64 = 0.125;

fn half_lives(time: Duration) -> f64 {
    time.as_secs_f64() / HALF_LIFE.as_secs_f64()
}

impl HeatSketch {
    /// Notes a sampled read that stands for `weight` reads.
    pub fn note(&mut self, hash: u64, key: &str, hit: bool, weight: f64, now: Timestamp) {
        let began = *self.began.get_or_insert_with(|| {
            self.landmark = now;
            now
        });
        debug_assert!(began <= now || weight > 0.0);
        let mut scale = half_lives(now.since(self.landmark)).exp2();
        if scale > MAX_SCALE {
            self.rescale(1.0 / scale, now);
            scale = 1.0;
        }
        let weight = weight * scale;
        self.total += weight;
        let hits = if hit { weight } else { 0.0 };
        if let Some(place) = self.places.get(&hash) {
            let counter = &mut self.counters[*place];
            counter.count += weight;
            counter.hits += hits;
            return;
        }
        if key.len() > MAX_KEY_TEXT {
            return;
        }
        let mut kept_hits = 0.0;
        while self.counters.len() >= MAX_KEYS
            || (self.key_text + key.len() > MAX_KEY_TEXT && !self.counters.is_empty())
        {
            let least = self.remove_least();
            self.given_up = self.given_up.max(least.count);
            // The new key inherits the count, and its share of hits is unknown.
            kept_hits = least.hits * (self.given_up / least.count.max(f64::MIN_POSITIVE));
        }
        let over = self.given_up;
        self.key_text += key.len();
        self.places.insert(hash, self.counters.len());
        let (count, hits) = (over + weight, kept_hits + hits);
        self.counters.push(Counter { hash, key: key.into(), count, over, hits });
    }

    fn remove_least(&mut self) -> Counter {
        let counts = self.counters.iter().enumerate();
        let least = counts.min_by(|a, b| a.1.count.total_cmp(&b.1.count)).map_or(0, |(at, _)| at);
        let removed = self.counters.swap_remove(least);
        self.places.remove(&removed.hash);
        if let Some(moved) = self.counters.get(least) {
            self.places.insert(moved.hash, least);
        }
        self.key_text -= removed.key.len();
        removed
    }

    fn rescale(&mut self, by: f64, now: Timestamp) {
        for counter in &mut self.counters {
            counter.count *= by;
            counter.over *= by;
            counter.hits *= by;
        }
        self.total *= by;
        self.given_up *= by;
        self.landmark = now;
    }

    /// The keys whose share is known to about six percent, in any order.
    pub fn known(&self) -> Vec<KnownKey> {
        let known = |counter: &&Counter| counter.over <= counter.count * KNOWN_WITHIN;
        // What is over is between nothing and all of it.
        let share = |counter: &Counter| KnownKey {
            hash: counter.hash,
            share: (counter.count - counter.over / 2.0) / self.total.max(f64::MIN_POSITIVE),
        };
        self.counters.iter().filter(known).map(share).collect()
    }

    /// The hottest keys, at most `most`.
    pub fn hottest(&self, most: usize, now: Timestamp) -> HotKeys {
        let Some(began) = self.began else {
            return HotKeys { keys: Vec::new(), reads_per_second: 0.0, observed: Duration::ZERO };
        };
        let observed = now.since(began);
        // The decayed weight of one read per second over the time observed, at least a second.
        let decay = std::f64::consts::LN_2 / HALF_LIFE.as_secs_f64();
        let seconds = observed.as_secs_f64().max(1.0);
        let of_one = (1.0 - (-decay * seconds).exp()) / decay;
        let scale = (-half_lives(now.since(self.landmark))).exp2() / of_one;
        let mut sorted: Vec<&Counter> = self.counters.iter().collect();
        sorted.sort_by(|a, b| b.count.total_cmp(&a.count).then_with(|| a.key.cmp(&b.key)));
        let key = |counter: &Counter| HotKey {
            key: counter.key.to_string(),
            reads_per_second: counter.count * scale,
            may_be_over_by: counter.over * scale,
            share: (counter.count / self.total.max(f64::MIN_POSITIVE)).min(1.0),
            hit_ratio: (counter.hits / counter.count.max(f64::MIN_POSITIVE)).clamp(0.0, 1.0),
        };
        HotKeys {
            keys: sorted.into_iter().take(most).map(key).collect(),
            reads_per_second: self.total * scale,
            observed,
        }
    }
}

#[cfg(test)]
mod tests {
    use rand::RngExt;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::Zipf;
    use rstest::rstest;

    use super::*;

    const START: Timestamp = Timestamp::from_millis(1_000_000);

    /// A seeded stream, 200 reads a second, and the exact decayed rates of its keys.
    fn stream(skew: f64, keys: f64, seconds: u64, gap: f64) -> (HeatSketch, Vec<f64>, Timestamp) {
        let mut random = ChaCha8Rng::seed_from_u64(42);
        let zipf = Zipf::new(keys, skew).unwrap();
        let mut sketch = HeatSketch::default();
        let mut exact = vec![0.0; keys as usize + 1];
        let end = START + Duration::from_secs(seconds);
        for read in 0..seconds * 200 {
            let now = START + Duration::from_millis(read * 5);
            let key = random.sample(zipf) as u64;
            exact[key as usize] += (-half_lives(end.since(now))).exp2();
            if random.random_range(0.0..gap) < 1.0 {
                sketch.note(key, &format!("board/{key}"), true, gap, now);
            }
        }
        let decay = std::f64::consts::LN_2 / HALF_LIFE.as_secs_f64();
        let of_one = (1.0 - (-decay * seconds as f64).exp()) / decay;
        exact.iter_mut().for_each(|count| *count /= of_one);
        (sketch, exact, end)
    }

    #[rstest]
    fn counts_are_within_their_bound(
        #[values(0.7, 0.9, 1.1)] skew: f64,
        #[values(100.0, 10_000.0)] keys: f64,
    ) {
        let (sketch, exact, end) = stream(skew, keys, 1_200, 1.0);
        let hot = sketch.hottest(MAX_KEYS, end);
        assert_eq!(hot.keys.len(), MAX_KEYS.min(keys as usize));
        let bound = hot.reads_per_second / MAX_KEYS as f64;
        for hot in &hot.keys {
            let key: usize = hot.key["board/".len()..].parse().unwrap();
            let over = hot.reads_per_second - exact[key];
            assert!(over > -1e-6 && over <= hot.may_be_over_by + 1e-6, "{hot:?} {}", exact[key]);
            assert!(hot.may_be_over_by <= bound * 1.000_001, "{hot:?} {bound}");
        }
        // Whoever is above the bound is there.
        for (key, rate) in exact.iter().enumerate().filter(|(_, rate)| **rate > bound) {
            assert!(hot.keys.iter().any(|hot| hot.key == format!("board/{key}")), "{key} {rate}");
        }
    }

    #[rstest]
    fn a_sample_is_within_four_deviations(#[values(4.0, 20.0)] gap: f64) {
        let (sketch, exact, end) = stream(1.1, 1_000.0, 1_200, gap);
        let hot = sketch.hottest(10, end);
        for hot in &hot.keys {
            let key: usize = hot.key["board/".len()..].parse().unwrap();
            // The deviation of a decayed count of rate r is √(g · r / (2 · decay)), as a rate.
            let decay = std::f64::consts::LN_2 / HALF_LIFE.as_secs_f64();
            let deviation = (gap * exact[key] * decay / 2.0).sqrt();
            let off = (hot.reads_per_second - exact[key]).abs();
            assert!(off < 4.0 * deviation + hot.may_be_over_by, "{hot:?} {}", exact[key]);
        }
    }

    #[test]
    fn what_was_hot_cools_down() {
        let mut sketch = HeatSketch::default();
        for second in 0..600 {
            let now = START + Duration::from_secs(second);
            (0..9).for_each(|_| sketch.note(1, "old", true, 1.0, now));
        }
        for second in 600..1_800 {
            sketch.note(2, "new", second % 2 == 0, 1.0, START + Duration::from_secs(second));
        }
        let hot = sketch.hottest(2, START + Duration::from_secs(1_800));
        assert_eq!((&*hot.keys[0].key, &*hot.keys[1].key), ("new", "old"));
        assert!((hot.keys[0].hit_ratio - 0.5).abs() < 0.01);
        // Four half-lives and what it had: 9 × (1 − 2⁻²) × 2⁻⁴, over the time observed.
        let expected = 9.0 * 0.75 / 16.0 / (1.0 - (-6.0_f64).exp2());
        assert!((hot.keys[1].reads_per_second - expected).abs() < 0.05, "{:?}", hot.keys[1]);
    }

    #[test]
    fn a_year_does_not_overflow() {
        let mut sketch = HeatSketch::default();
        for day in 0..365 {
            sketch.note(1, "tide", true, 1.0, START + Duration::from_secs(day * 86_400));
        }
        let hot = sketch.hottest(1, START + Duration::from_secs(364 * 86_400));
        assert!((hot.keys[0].share - 1.0).abs() < 1e-9 && hot.reads_per_second.is_finite());
    }

    #[test]
    fn key_texts_are_bounded() {
        let mut sketch = HeatSketch::default();
        for key in 0..1_000_u64 {
            sketch.note(key, &format!("{key:01024}"), true, 1.0, START);
        }
        assert_eq!(sketch.key_text, MAX_KEY_TEXT);
        assert_eq!((sketch.counters.len(), sketch.places.len()), (64, 64));
        sketch.note(5_000, &"x".repeat(MAX_KEY_TEXT + 1), true, 1.0, START);
        assert!(sketch.key_text <= MAX_KEY_TEXT);
    }
}
