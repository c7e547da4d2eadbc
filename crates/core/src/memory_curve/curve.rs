//! The hit ratio by the number of entries, from reuse times.

use std::collections::BTreeMap;
use std::time::Duration;

use super::reuse_times::{BINS, Ends, GROUPS, ReuseTimes, start_of};
use crate::heat::KnownKey;

/// By how much a curve may be wrong apart from chance: keys that are read at regular intervals,
/// and bins.
pub const MODEL_ERROR: f64 = 0.01;

/// By how much the sampled keys may seem to have too large a share of the reads.
const MAX_TOO_MANY: f64 = 0.2;

/// Fewer followed keys say nothing, if they stand for a share of the reads that matters.
const MIN_KEYS: usize = 64;

/// Keys with a smaller share are not known, about.
const LEAST_KNOWN: f64 = 1.0 / 512.0;

/// The share of reads that matters.
const MIN_SHARE: f64 = 0.02;

/// The sampled keys.
pub(super) struct Rest {
    pub(super) times: ReuseTimes,
    /// What all reads count, those of known keys included.
    pub(super) total: f64,
    pub(super) reads: u64,
    pub(super) keys: usize,
}

/// A point of a curve.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CurvePoint {
    /// How many entries there are.
    pub entries: f64,
    /// The share of reads that are hits.
    pub hit_ratio: f64,
    /// By how much that may be wrong: two standard deviations, and [`MODEL_ERROR`].
    pub error: f64,
}

/// The hit ratio of a namespace by the number of entries it may hold.
#[derive(Debug, Clone, PartialEq)]
pub struct MemoryCurve {
    /// The points, by entries. There is nothing to gain beyond the last one, as far as is known.
    pub points: Vec<CurvePoint>,
    /// Reads of all keys per second.
    pub reads_per_second: f64,
    /// For how long was observed.
    pub observed: Duration,
    /// How many keys are followed.
    pub sampled_keys: usize,
    /// How many reads of them were.
    pub sampled_reads: u64,
    /// Which fraction of all keys is sampled.
    pub fraction: f64,
    /// How many keys are known by their rate, and are not sampled.
    pub known_keys: usize,
    /// Their share of all reads.
    pub known_share: f64,
}

/// The hottest keys, in classes of about the same share of the reads.
struct Known {
    /// A share, and how many keys have it.
    classes: Vec<(f64, f64)>,
    share: f64,
    lifetime_reads: f64,
}

impl Known {
    fn of(hottest: &[KnownKey], rate: f64, lifetime: Duration) -> Self {
        let mut classes: BTreeMap<i32, (f64, f64)> = BTreeMap::new();
        for key in hottest.iter().filter(|key| key.share > 0.0) {
            let class = classes.entry((key.share.log2() * 8.0).round() as i32).or_default();
            *class = (class.0 + key.share, class.1 + 1.0);
        }
        let share: f64 = classes.values().map(|(share, _)| share).sum();
        let classes = classes.into_values().map(|(share, keys)| (share / keys, keys)).collect();
        Self { classes, share: share.min(1.0), lifetime_reads: lifetime.as_secs_f64() * rate }
    }

    /// The largest reuse time that matters to them, in reads.
    fn horizon(&self) -> f64 {
        let least = self.classes.iter().map(|(share, _)| *share).fold(1.0, f64::min);
        10.0 / least
    }

    /// The smallest share of one of them.
    fn least(&self) -> f64 {
        self.classes.iter().map(|(share, _)| *share).fold(LEAST_KNOWN, f64::min)
    }

    /// Those of the hits within `reads` of a key, and whether its entry is still there.
    fn of_key(&self, share: f64, reads: f64) -> At {
        let again = 1.0 - (-share * reads).exp();
        // Of the reads of a key with *n* reads in a lifetime, one in *n* + 1 stores it.
        let in_lifetime = share * self.lifetime_reads;
        let lives = if in_lifetime.is_finite() { in_lifetime / (in_lifetime + 1.0) } else { 1.0 };
        At { entries: again, hits: share * lives * again }
    }

    /// The entries of these keys when those not read for `reads` are given up, and the share of all
    /// reads that hit one of them.
    fn at(&self, reads: f64) -> At {
        let classes = self.classes.iter().map(|(share, keys)| (self.of_key(*share, reads), keys));
        classes.fold(At::default(), |sum, (at, keys)| At {
            entries: sum.entries + keys * at.entries,
            hits: sum.hits + keys * at.hits,
        })
    }
}

/// What there is when entries not read for some time are given up.
#[derive(Debug, Clone, Copy, Default)]
struct At {
    entries: f64,
    hits: f64,
}

/// A curve's points, each as entries and hit ratio, from the sampled keys of all groups but one.
fn points(known: &Known, at: &[At], rest: &Rest, without: Option<usize>) -> Vec<(f64, f64)> {
    let bins: Vec<Ends> = (0..BINS).map(|bin| rest.times.without(bin, without)).collect();
    let mut at_risk: f64 = bins.iter().map(|ends| ends.total()).sum();
    let of_all = without.map_or(1.0, |_| GROUPS as f64 / (GROUPS - 1) as f64);
    let room = 1.0 - known.share;
    let rest_share = (at_risk * of_all / rest.total.max(1.0)).min(room + MAX_TOO_MANY);
    // What the sample lacks, or has too many of, by chance are reads of the keys that are read most
    // after the known ones (the adjustment of SHARDS).
    let least = known.least();
    let missing = (room - rest_share) / least;
    let last = bins.iter().rposition(|ends| ends.total() > 0.0).unwrap_or(0);
    let (mut survived, mut hits, mut entries) = (1.0_f64, 0.0, 0.0);
    let mut points = vec![(0.0_f64, 0.0_f64)];
    let mut latest = (0.0_f64, 0.0_f64);
    for bin in 0..BINS - 1 {
        let (start, end) = (start_of(bin) as f64, start_of(bin + 1) as f64);
        let ends = bins[bin];
        // Those that left within the bin were there for about half of it.
        let exposed = at_risk - ends.left / 2.0;
        let before = survived;
        if exposed > 0.0 {
            hits += survived * (ends.hits / exposed).min(1.0);
            survived *= 1.0 - ((ends.hits + ends.expired) / exposed).min(1.0);
        }
        at_risk -= ends.total();
        entries += rest_share * (before + survived) / 2.0 * (end - start);
        let lacking = known.of_key(least, end);
        // More memory is never worse, although too many reads by chance may make it look so.
        latest = (
            latest.0.max(at[bin].entries + missing * lacking.entries + entries),
            latest.1.max(at[bin].hits + missing * lacking.hits + rest_share * hits),
        );
        points.push(latest);
        // Nothing is known of the sampled keys beyond the last that was followed.
        let is_past = bin >= last;
        if is_past && (rest_share > MIN_SHARE || end > known.horizon()) {
            break;
        }
    }
    points
}

/// The hit ratio with so many entries; with more than the last point has, that of the last point.
fn at(points: &[(f64, f64)], entries: f64) -> f64 {
    let next = points.partition_point(|point| point.0 < entries);
    let Some(after) = points.get(next) else { return points.last().map_or(0.0, |last| last.1) };
    let Some(before) = next.checked_sub(1).map(|before| points[before]) else { return after.1 };
    let width = after.0 - before.0;
    let part = if width > 0.0 { (entries - before.0) / width } else { 1.0 };
    before.1 + (after.1 - before.1) * part
}

impl MemoryCurve {
    pub(super) fn of(
        rest: &Rest,
        hottest: &[KnownKey],
        rate: f64,
        lifetime: Duration,
    ) -> Option<Self> {
        let known = Known::of(hottest, rate, lifetime);
        if rest.keys < MIN_KEYS && 1.0 - known.share > MIN_SHARE {
            return None;
        }
        let ends: Vec<At> = (0..BINS - 1).map(|bin| known.at(start_of(bin + 1) as f64)).collect();
        let all = points(&known, &ends, rest, None);
        let parts = (0..GROUPS).map(|group| points(&known, &ends, rest, Some(group)));
        let parts: Vec<_> = parts.collect();
        let with_error = |(entries, hit_ratio): (f64, f64)| {
            let each = parts.iter().map(|part| at(part, entries));
            let mean = each.clone().sum::<f64>() / GROUPS as f64;
            let spread: f64 = each.map(|ratio| (ratio - mean).powi(2)).sum();
            let deviation = (spread * (GROUPS - 1) as f64 / GROUPS as f64).sqrt();
            let error = if entries > 0.0 { 2.0 * deviation + MODEL_ERROR } else { 0.0 };
            CurvePoint { entries, hit_ratio: hit_ratio.clamp(0.0, 1.0), error }
        };
        Some(Self {
            points: all.into_iter().map(with_error).collect(),
            reads_per_second: rate,
            observed: Duration::ZERO,
            sampled_keys: rest.keys,
            sampled_reads: rest.reads,
            fraction: 1.0,
            known_keys: hottest.len(),
            known_share: known.share,
        })
    }

    /// What is expected with so many entries.
    pub fn point_at(&self, entries: f64) -> CurvePoint {
        let pairs = |of: fn(&CurvePoint) -> f64| -> Vec<(f64, f64)> {
            self.points.iter().map(|point| (point.entries, of(point))).collect()
        };
        let hit_ratio = at(&pairs(|point| point.hit_ratio), entries);
        CurvePoint { entries, hit_ratio, error: at(&pairs(|point| point.error), entries) }
    }

    /// The hit ratio with so many entries.
    pub fn hit_ratio_at(&self, entries: f64) -> f64 {
        self.point_at(entries).hit_ratio
    }

    /// With how many entries nothing more is gained, as far as is known.
    pub fn most_entries(&self) -> f64 {
        self.points.last().map_or(0.0, |last| last.entries)
    }
}
