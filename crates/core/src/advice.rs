//! Advice on lifetimes: what a namespace's origin load and the age of what readers see would be
//! with other max-ages, and which one to take.
//!
//! The reads of sampled keys are replayed against one cache for each of [`MAX_AGES`]: a read
//! of a key whose copy is older than the max-age reads the origin. The keys are a fraction *p* of
//! all, so all keys together read the origin 1/*p* times as often. The first read of a key counts
//! as half an origin read: within a time *T*, a key that is read again and again at intervals of
//! *c* reads the origin *T/c* times, while the reads after the first are *T/c* − ½ on average.
//! docs/lifetime-advice.md has the derivation and its error.

use std::collections::HashMap;
use std::time::Duration;

use crate::entry::EntityTag;
use crate::store::{SampledRead, WHOLE, place_of};
use crate::time::Timestamp;

/// The max-ages that are compared, in seconds.
pub const MAX_AGES: [u64; 14] =
    [1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1_800, 3_600, 7_200, 21_600];

/// The most keys that are followed; with more, a smaller fraction is sampled.
const MAX_KEYS: usize = 512;

/// The most reads in a second; with more, a smaller fraction is sampled.
const MAX_READS_PER_SECOND: usize = 2_000;

/// The most keys whose refills are compared with the values before.
const MAX_COMPARED_KEYS: usize = 512;

/// After this time the observation begins anew, so that it follows what happens.
const MAX_OBSERVED: Duration = Duration::from_secs(48 * 3_600);

/// A max-age is judged after it was observed for so many times as long.
const OBSERVED_TIMES: u32 = 4;

/// Fewer sampled reads say nothing.
const MIN_READS: u64 = 200;

/// Fewer comparisons with a value before say nothing about changes.
const MIN_COMPARED: u64 = 20;

/// The share of reads that may see an outdated value.
pub const OUTDATED_SHARE: f64 = 0.01;

/// How much more origin load than the least possible is worth a younger value.
const KNEE: f64 = 1.1;

/// A key that is followed: when its copy was read, for each max-age, in milliseconds since the
/// observation began.
#[derive(Debug, Clone)]
struct Followed([u32; MAX_AGES.len()]);

/// What happened with one max-age.
#[derive(Debug, Clone, Copy, Default)]
struct Replayed {
    misses: u64,
    /// The ages of all hits together, in milliseconds.
    hit_age: u64,
    hits: u64,
}

/// The intervals between a refill and the one before of the same key, about as long as each other.
#[derive(Debug, Clone, Copy, Default)]
struct Intervals {
    compared: u64,
    changed: u64,
    total_ms: u64,
}

/// A refill that the next one of its key is compared with.
#[derive(Debug, Clone, Copy)]
struct Refilled {
    at: Timestamp,
    /// A part of the value's entity tag.
    tag: u64,
}

/// What was observed of a namespace, in bounded memory: at most about 60 kB.
#[derive(Debug)]
pub struct LifetimeObservation {
    began: Timestamp,
    threshold: u32,
    keys: HashMap<u64, Followed>,
    first_reads: u64,
    reads: u64,
    /// All reads of the namespace, sampled or not, at the beginning and now.
    all_reads: (u64, u64),
    replayed: [Replayed; MAX_AGES.len()],
    refills: HashMap<u64, Refilled>,
    refill_threshold: u64,
    /// By the logarithm of their length.
    intervals: [Intervals; 32],
}

/// The expectation for one max-age.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AdvicePoint {
    /// The max-age.
    pub max_age: Duration,
    /// Reads of the origin in a second.
    pub origin_reads_per_second: f64,
    /// The share of reads that are hits.
    pub hit_ratio: f64,
    /// The mean age of what readers see.
    pub mean_age: Duration,
    /// The share of reads that see a value that has changed since it was read; `None` if too few
    /// refills were compared.
    pub outdated_share: Option<f64>,
}

/// Why a max-age is suggested.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum AdviceReason {
    /// It is the longest with which few readers see an outdated value.
    Outdated {
        /// The share that does.
        share: f64,
    },
    /// Values change so often that no max-age keeps the share low; this is the shortest.
    ChangesTooOften {
        /// The share that sees an outdated value.
        share: f64,
    },
    /// A longer one would save little more.
    Knee {
        /// How many more origin reads it has than the longest, as a ratio.
        ratio: f64,
    },
}

/// What is advised.
#[derive(Debug, Clone, PartialEq)]
pub struct Advice {
    /// For how long was observed.
    pub observed: Duration,
    /// How many reads were sampled.
    pub sampled_reads: u64,
    /// Of how many keys.
    pub sampled_keys: u64,
    /// Which fraction of all keys that is.
    pub fraction: f64,
    /// Refills that were compared with the value before, and how many had changed.
    pub compared: u64,
    /// How many of them brought another value.
    pub changed: u64,
    /// The mean time between changes of a value; `None` if no change was seen, or too little.
    pub change_interval: Option<Duration>,
    /// The expectations, by max-age. Max-ages for which too little was observed are missing.
    pub points: Vec<AdvicePoint>,
    /// The suggested max-age, and why; `None` if too little was observed.
    pub suggestion: Option<(Duration, AdviceReason)>,
}

impl Advice {
    /// Whether enough refills were compared to tell how often values change.
    pub fn outdated_known(&self) -> bool {
        self.compared >= MIN_COMPARED
    }
}

impl LifetimeObservation {
    /// Begins to observe.
    pub fn new(now: Timestamp) -> Self {
        Self {
            began: now,
            threshold: WHOLE,
            keys: HashMap::new(),
            first_reads: 0,
            reads: 0,
            all_reads: (0, 0),
            replayed: Default::default(),
            refills: HashMap::new(),
            refill_threshold: u64::MAX,
            intervals: Default::default(),
        }
    }

    /// Below which place keys are sampled.
    pub fn threshold(&self) -> u32 {
        self.threshold
    }

    /// Takes the sampled reads of about the last second, and how many reads there were since the
    /// service started, sampled or not. Returns the threshold for the next ones.
    pub fn take(&mut self, reads: &[SampledRead], all_reads: u64, now: Timestamp) -> u32 {
        // The first observation begins with the first reads.
        if now.since(self.began) > MAX_OBSERVED {
            let all_reads = (self.all_reads.1, self.all_reads.1);
            let began = reads.first().map_or(now, |read| read.at);
            *self = Self { threshold: self.threshold, all_reads, ..Self::new(began) };
        }
        self.all_reads.1 = all_reads;
        for read in reads {
            if place_of(read.key) < self.threshold {
                self.replay(read);
            }
        }
        if self.threshold > 1 && (self.keys.len() > MAX_KEYS || reads.len() > MAX_READS_PER_SECOND)
        {
            self.threshold /= 2;
            // What was counted was of a larger fraction: it begins anew with the smaller one.
            self.forget_counts(now);
        }
        self.threshold
    }

    fn forget_counts(&mut self, now: Timestamp) {
        (self.reads, self.first_reads, self.began) = (0, 0, now);
        self.all_reads.0 = self.all_reads.1;
        self.replayed = Default::default();
        self.keys.clear();
    }

    fn replay(&mut self, read: &SampledRead) {
        // An observation ends long before this overflows.
        let at = u32::try_from(read.at.since(self.began).as_millis()).unwrap_or(u32::MAX);
        let Some(followed) = self.keys.get_mut(&read.key) else {
            self.keys.insert(read.key, Followed([at; MAX_AGES.len()]));
            self.first_reads += 1;
            self.reads += 1;
            return;
        };
        // A miss looks twice: before and while it reads the origin.
        if followed.0.contains(&at) {
            return;
        }
        self.reads += 1;
        for ((fetched, replayed), max_age) in
            followed.0.iter_mut().zip(&mut self.replayed).zip(MAX_AGES)
        {
            let age = u64::from(at.saturating_sub(*fetched));
            if age < max_age * 1_000 {
                replayed.hits += 1;
                replayed.hit_age += age;
            } else {
                replayed.misses += 1;
                *fetched = at;
            }
        }
    }

    /// Takes the value of a refill, by a hash of its key.
    pub fn refilled(&mut self, key: u64, tag: EntityTag, at: Timestamp) {
        if key > self.refill_threshold {
            return;
        }
        let tag = tag.number() as u64;
        if let Some(before) = self.refills.insert(key, Refilled { at, tag }) {
            let interval = at.since(before.at).as_millis() as u64;
            let bin = (interval.max(1).ilog2() as usize).min(self.intervals.len() - 1);
            let intervals = &mut self.intervals[bin];
            intervals.compared += 1;
            intervals.changed += u64::from(before.tag != tag);
            intervals.total_ms += interval;
        }
        while self.refills.len() > MAX_COMPARED_KEYS {
            self.refill_threshold /= 2;
            let threshold = self.refill_threshold;
            self.refills.retain(|key, _| *key <= threshold);
        }
    }

    /// The rate of changes per second, by maximum likelihood: an interval of length d brings
    /// another value with the probability 1 − exp(−rate · d).
    fn change_rate(&self) -> Option<f64> {
        let bins = || self.intervals.iter().filter(|bin| bin.compared > 0);
        let (compared, changed) = self.compared();
        if compared < MIN_COMPARED {
            return None;
        }
        if changed == 0 {
            return Some(0.0);
        }
        // The derivative of the likelihood falls with the rate.
        let slope = |rate: f64| -> f64 {
            bins()
                .map(|bin| {
                    let length = bin.total_ms as f64 / 1_000.0 / bin.compared as f64;
                    let same = (-rate * length).exp();
                    let changed = bin.changed as f64 * length * same / (1.0 - same).max(1e-12);
                    changed - (bin.compared - bin.changed) as f64 * length
                })
                .sum()
        };
        let (mut low, mut high) = (1e-9, 1e4);
        for _ in 0..200 {
            let middle = f64::sqrt(low * high);
            if slope(middle) > 0.0 { low = middle } else { high = middle }
        }
        Some(f64::sqrt(low * high))
    }

    fn compared(&self) -> (u64, u64) {
        let sum = |of: fn(&Intervals) -> u64| self.intervals.iter().map(of).sum();
        (sum(|bin| bin.compared), sum(|bin| bin.changed))
    }

    fn fraction(&self) -> f64 {
        f64::from(self.threshold) / f64::from(WHOLE)
    }

    /// The expectation for the max-age number `at` of [`MAX_AGES`].
    fn point(&self, at: usize, seconds: f64, change_rate: Option<f64>) -> AdvicePoint {
        let (replayed, max_age) = (&self.replayed[at], Duration::from_secs(MAX_AGES[at]));
        let misses = replayed.misses as f64 + self.first_reads as f64 / 2.0;
        let origin_reads = misses / self.fraction();
        // The sample may lack the most popular keys, so its own ratio would be too low.
        let all_reads = self.all_reads.1.saturating_sub(self.all_reads.0).max(self.reads);
        let hit_ratio = (1.0 - origin_reads / all_reads as f64).clamp(0.0, 1.0);
        let mean_hit_age = replayed.hit_age as f64 / 1_000.0 / (replayed.hits as f64).max(1.0);
        // Ages of hits spread evenly from zero to twice their mean.
        let outdated = |rate: f64| {
            let spread = rate * 2.0 * mean_hit_age;
            let of_hits = if spread < 1e-9 { 0.0 } else { 1.0 - (1.0 - (-spread).exp()) / spread };
            of_hits * hit_ratio
        };
        AdvicePoint {
            max_age,
            origin_reads_per_second: origin_reads / seconds,
            hit_ratio,
            mean_age: Duration::from_secs_f64(mean_hit_age * hit_ratio),
            outdated_share: change_rate.map(outdated),
        }
    }

    /// What is advised from what was observed until `now`.
    pub fn advice(&self, now: Timestamp) -> Advice {
        let observed = now.since(self.began);
        let change_rate = self.change_rate();
        let (compared, changed) = self.compared();
        let is_enough = self.reads >= MIN_READS;
        let judged = |at: &usize| {
            is_enough && Duration::from_secs(MAX_AGES[*at]) * OBSERVED_TIMES <= observed
        };
        let seconds = observed.as_secs_f64().max(1.0);
        let points: Vec<AdvicePoint> = (0..MAX_AGES.len())
            .filter(judged)
            .map(|at| self.point(at, seconds, change_rate))
            .collect();
        let interval = |rate: f64| Duration::try_from_secs_f64(1.0 / rate).unwrap_or(Duration::MAX);
        Advice {
            observed,
            sampled_reads: self.reads,
            sampled_keys: self.keys.len() as u64,
            fraction: self.fraction(),
            compared,
            changed,
            change_interval: change_rate.filter(|rate| *rate > 0.0).map(interval),
            suggestion: suggestion(&points),
            points,
        }
    }
}

/// The longest max-age with which few see an outdated value; where no change was seen, the shortest
/// that saves almost as much as the longest.
fn suggestion(points: &[AdvicePoint]) -> Option<(Duration, AdviceReason)> {
    let (first, last) = (points.first()?, points.last()?);
    let least = last.origin_reads_per_second.max(1e-9);
    let knee = points.iter().find(|point| point.origin_reads_per_second <= least * KNEE)?;
    let ratio = knee.origin_reads_per_second / least;
    let is_fresh = |point: &&AdvicePoint| point.outdated_share.is_none_or(|s| s <= OUTDATED_SHARE);
    let longest = points.iter().rev().find(is_fresh);
    Some(match longest {
        Some(longest) if longest.max_age < knee.max_age => {
            let share = longest.outdated_share.unwrap_or_default();
            (longest.max_age, AdviceReason::Outdated { share })
        }
        Some(_) => (knee.max_age, AdviceReason::Knee { ratio }),
        None => {
            let share = first.outdated_share.unwrap_or_default();
            (first.max_age, AdviceReason::ChangesTooOften { share })
        }
    })
}

#[cfg(test)]
mod tests;
