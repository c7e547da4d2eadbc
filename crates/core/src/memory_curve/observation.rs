//! Follows a sample of the keys of a namespace.

use std::collections::HashMap;
use std::time::Duration;

use super::curve::{MemoryCurve, Rest};
use super::reuse_times::{End, ReuseTimes};
use crate::heat::KnownKey;
use crate::lifetime::Lifetime;
use crate::store::{MAX_REUSE_READS, ReuseSample, SampledRead, WHOLE, place_of};
use crate::time::Timestamp;

/// The most keys that are followed; with more, a smaller fraction is sampled.
pub const MAX_SAMPLED_KEYS: usize = 2_048;

/// After this time, a read counts half.
const HALF_LIFE: Duration = Duration::from_secs(3_600);

/// A key that was not read for so long is no longer followed: its read counts next to nothing.
const MAX_IDLE: Duration = Duration::from_secs(8 * 3_600);

/// How often what is idle is given up, and the fraction may grow again.
const TIDY_EVERY: Duration = Duration::from_secs(60);

/// Rates are of about so long.
const RATES_OVER: Duration = Duration::from_secs(300);

/// Fewer reads say nothing.
const MIN_READS: f64 = 200.0;

/// A followed key.
#[derive(Debug, Clone, Copy)]
struct Followed {
    /// How many reads of all keys there had been when it was read last.
    read: u64,
    /// When that was.
    at: Timestamp,
    /// When its entry would have been stored, with memory enough.
    stored_at: Timestamp,
}

/// All reads of a namespace since the service started, sampled or not.
#[derive(Debug, Clone, Copy, Default)]
pub struct AllReads {
    /// Reads.
    pub reads: u64,
    /// Those that the cache served.
    pub hits: u64,
}

/// What was observed of the reuse of a namespace's keys, in bounded memory: at most about 160 kB.
#[derive(Debug)]
pub struct ReuseObservation {
    /// With the first call.
    began: Option<Timestamp>,
    threshold: u32,
    keys: HashMap<u64, Followed>,
    times: ReuseTimes,
    /// Where weights are 1.
    landmark: Timestamp,
    tidied: Timestamp,
    /// Until the last call.
    all: AllReads,
    taken: Timestamp,
    sampled_reads: u64,
    /// The share of all keys that is sampled.
    sampled: f64,
    /// What all reads count.
    total: f64,
    lifetime: Duration,
    /// Reads of all keys per second, and hits, over about the last minutes.
    rate: f64,
    hit_rate: f64,
}

fn halved(times: Duration) -> f64 {
    (-times.as_secs_f64() / HALF_LIFE.as_secs_f64()).exp2()
}

fn group_of(key: u64) -> usize {
    // Bits that do not choose which keys are sampled.
    (key >> 24) as usize
}

impl Default for ReuseObservation {
    fn default() -> Self {
        let never = Timestamp::from_millis(0);
        Self {
            began: None,
            threshold: WHOLE,
            keys: HashMap::new(),
            times: ReuseTimes::default(),
            landmark: never,
            tidied: never,
            all: AllReads::default(),
            taken: never,
            sampled_reads: 0,
            sampled: 1.0,
            total: 0.0,
            lifetime: Duration::MAX,
            rate: 0.0,
            hit_rate: 0.0,
        }
    }
}

impl ReuseObservation {
    /// Below which place keys are sampled.
    pub fn threshold(&self) -> u32 {
        self.threshold
    }

    /// Takes the sampled reads since the last call, and how many there were of all. An entry serves
    /// reads as long as it is fresh; a read that finds it stale within its lifetime refreshes it.
    pub fn take(
        &mut self,
        sample: &ReuseSample,
        all: AllReads,
        lifetime: &Lifetime,
        now: Timestamp,
    ) {
        let (reads, stale) = (&sample.reads, lifetime.stale_while_revalidate);
        self.lifetime = lifetime.max_age.saturating_add(stale);
        let began = *self.began.get_or_insert_with(|| {
            let began = reads.first().map_or(now, |read| read.at);
            (self.landmark, self.tidied, self.taken) = (began, began, began);
            began
        });
        let (before, since) = (self.all.reads.min(all.reads), self.taken);
        let more = all.reads - before;
        let elapsed = now.since(since).as_secs_f64();
        if elapsed > 0.0 {
            let known = since.since(began).min(RATES_OVER).as_secs_f64();
            let part = elapsed / (known + elapsed);
            let hits = all.hits.saturating_sub(self.all.hits);
            self.rate += (more as f64 / elapsed - self.rate) * part;
            self.hit_rate += (hits as f64 / elapsed - self.hit_rate) * part;
        }
        self.sampled = f64::from(self.threshold) / f64::from(WHOLE) * (1.0 - sample.left_out);
        self.total += more as f64 * self.weight(now);
        let threshold = self.threshold;
        for read in reads.iter().filter(|read| place_of(read.key) < threshold) {
            let passed = read.at.since(since).as_secs_f64() / elapsed.max(1e-9);
            let number = before + (more as f64 * passed.min(1.0)) as u64;
            self.replay(read, number, lifetime);
        }
        (self.all, self.taken) = (all, now);
        // Reads beyond the room of the buffer are lost: what was followed missed some.
        let lost = reads.len() >= MAX_REUSE_READS;
        if lost {
            self.keys.clear();
        }
        while self.threshold > 1 && (lost || self.keys.len() > MAX_SAMPLED_KEYS) {
            self.threshold /= 2;
            self.sampled = f64::from(self.threshold) / f64::from(WHOLE) * (1.0 - sample.left_out);
            self.total += more as f64 * self.weight(now);
            let threshold = self.threshold;
            self.keys.retain(|key, _| place_of(*key) < threshold);
            if lost {
                break;
            }
        }
        if now.since(self.tidied) >= TIDY_EVERY {
            self.tidy(reads.len(), now);
        }
    }

    fn tidy(&mut self, latest_reads: usize, now: Timestamp) {
        self.tidied = now;
        let by = halved(now.since(self.landmark));
        self.times.scale(by);
        self.total *= by;
        self.landmark = now;
        self.keys.retain(|_, followed| now.since(followed.at) < MAX_IDLE);
        let has_room = self.keys.len() < MAX_SAMPLED_KEYS / 4;
        if self.threshold < WHOLE && has_room && latest_reads < MAX_REUSE_READS / 4 {
            self.threshold *= 2;
        }
    }

    /// How many keys are followed.
    #[cfg(test)]
    pub(super) fn followed(&self) -> usize {
        self.keys.len()
    }

    /// The share of reads that the cache served over about the last five minutes; `None` without
    /// reads.
    pub fn measured_hit_ratio(&self) -> Option<f64> {
        (self.rate > 0.0).then(|| (self.hit_rate / self.rate).clamp(0.0, 1.0))
    }

    /// What a read counts that was made at `at`.
    fn weight(&self, at: Timestamp) -> f64 {
        // A read after the landmark counts more than one.
        let later = at.since(self.landmark).as_secs_f64() - self.landmark.since(at).as_secs_f64();
        (later / HALF_LIFE.as_secs_f64()).exp2()
    }

    fn replay(&mut self, read: &SampledRead, number: u64, lifetime: &Lifetime) {
        let new = Followed { read: number, at: read.at, stored_at: read.at };
        let Some(before) = self.keys.get(&read.key).copied() else {
            self.keys.insert(read.key, new);
            return;
        };
        // A miss looks twice: before and while it reads the origin.
        if before.at == read.at {
            return;
        }
        self.sampled_reads += 1;
        let weight = self.weight(before.at) / self.sampled;
        let ends = lifetime.max_age.saturating_add(lifetime.stale_while_revalidate);
        let (age, reuse) = (read.at.since(before.stored_at), number.saturating_sub(before.read));
        let (end, length, stored_at) = if age < lifetime.max_age {
            (End::Hit, reuse, before.stored_at)
        } else if age < ends {
            (End::Hit, reuse, read.at)
        } else {
            // It took memory until its lifetime ended.
            let lived = (before.stored_at + ends).since(before.at);
            let part = lived.as_secs_f64() / read.at.since(before.at).as_secs_f64();
            (End::Expired, (reuse as f64 * part.min(1.0)) as u64, read.at)
        };
        self.times.add(group_of(read.key), length, end, weight);
        self.keys.insert(read.key, Followed { stored_at, ..new });
    }

    /// The curve, from the sampled keys and the hottest ones, which are not sampled; `None` while
    /// too little was observed.
    pub fn curve(&self, hottest: &[KnownKey], now: Timestamp) -> Option<MemoryCurve> {
        let mut times = self.times.clone();
        for (key, followed) in &self.keys {
            let weight = self.weight(followed.at) / self.sampled;
            let ended = (followed.stored_at + self.lifetime).since(followed.at);
            let waited = self.all.reads.saturating_sub(followed.read);
            let idle = now.since(followed.at);
            match idle < ended {
                true => times.add(group_of(*key), waited, End::Left, weight),
                false => {
                    let part = ended.as_secs_f64() / idle.as_secs_f64();
                    let lived = (waited as f64 * part) as u64;
                    times.add(group_of(*key), lived, End::Expired, weight);
                }
            }
        }
        let observed = now.since(self.began?);
        let (reads, keys) = (self.sampled_reads, self.keys.len());
        let rest = Rest { times, total: self.total, reads, keys };
        let is_enough = self.rate > 0.0 && observed.as_secs_f64() * self.rate >= MIN_READS;
        let curve =
            is_enough.then(|| MemoryCurve::of(&rest, hottest, self.rate, self.lifetime))??;
        let fraction = f64::from(self.threshold) / f64::from(WHOLE);
        Some(MemoryCurve { observed, fraction, ..curve })
    }
}
