//! How sure a ratio is: a bootstrap over the time slices of a run.
//!
//! The figures of neighboring seconds are not independent: a garbage collection, a checkpoint or a
//! neighbor on the machine slows several of them. So whole blocks of neighboring slices are drawn
//! with replacement (the circular block bootstrap: Politis and Romano, 1992), both lanes of a slice
//! together, since they ran at the same time and share what disturbed it. The interval is between
//! the percentiles of the logarithms of the ratios, widened for few blocks.
//!
//! ```
//! use verax_core::load::{PairedSlice, ratio_interval};
//!
//! let over = |second: u64| 40.0 + (second * second % 11) as f64;
//! let slice = |second| PairedSlice { over: over(second), under: 0.4 };
//! let slices: Vec<PairedSlice> = (0..60).map(slice).collect();
//! let interval = ratio_interval(&slices, 1).expect("enough slices");
//! assert!(interval.low < 110.0 && 110.0 < interval.high, "{interval:?}");
//! ```

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

/// With fewer slices, nothing is said.
pub const MIN_SLICES: usize = 8;

/// How often slices are drawn.
const DRAWS: usize = 1_000;

/// The share of intervals that cover the truth.
pub const CONFIDENCE: f64 = 0.95;

/// What two lanes measured in the same slice of time: the sums whose ratio is wanted.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PairedSlice {
    /// Of the lane above the line.
    pub over: f64,
    /// Of the lane below.
    pub under: f64,
}

/// A range that covers the truth with the confidence [`CONFIDENCE`].
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ConfidenceInterval {
    /// Its lower end.
    pub low: f64,
    /// Its upper end.
    pub high: f64,
}

/// The interval of the ratio of the sums of two lanes; `None` with too few slices, or if a lane
/// measured nothing. Equal seeds draw equally.
pub fn ratio_interval(slices: &[PairedSlice], seed: u64) -> Option<ConfidenceInterval> {
    let count = slices.len();
    let ratio =
        |(over, under): (f64, f64)| (under > 0.0 && over > 0.0).then(|| (over / under).ln());
    let sum = |sums: (f64, f64), slice: &PairedSlice| (sums.0 + slice.over, sums.1 + slice.under);
    if count < MIN_SLICES {
        return None;
    }
    let whole = ratio(slices.iter().fold((0.0, 0.0), sum))?;
    let blocks = Blocks::of(count);
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let drawn = (0..DRAWS).filter_map(|_| {
        ratio(blocks.draw(&mut random).map(|at| &slices[at]).fold((0.0, 0.0), sum))
    });
    around(whole, drawn.collect(), blocks.blocks)
}

/// The interval of the ratio of the means of two series that did not run at the same time; `None`
/// with too few slices, or if a mean is zero. Equal seeds draw equally.
pub fn ratio_of_means_interval(
    over: &[f64],
    under: &[f64],
    seed: u64,
) -> Option<ConfidenceInterval> {
    let fewest = over.len().min(under.len());
    if fewest < MIN_SLICES {
        return None;
    }
    let ratio = |over: f64, under: f64| (over > 0.0 && under > 0.0).then(|| (over / under).ln());
    let mean = |slices: &[f64]| slices.iter().sum::<f64>() / slices.len() as f64;
    let whole = ratio(mean(over), mean(under))?;
    let (over_blocks, under_blocks) = (Blocks::of(over.len()), Blocks::of(under.len()));
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut drawn_mean = |slices: &[f64], blocks: Blocks| {
        blocks.draw(&mut random).map(|at| slices[at]).sum::<f64>() / slices.len() as f64
    };
    let drawn = (0..DRAWS)
        .filter_map(|_| ratio(drawn_mean(over, over_blocks), drawn_mean(under, under_blocks)));
    around(whole, drawn.collect(), over_blocks.blocks.min(under_blocks.blocks))
}

/// The interval of the mean of a series; `None` with too few slices, or if it is zero. Equal seeds
/// draw equally.
pub fn mean_interval(slices: &[f64], seed: u64) -> Option<ConfidenceInterval> {
    let paired: Vec<PairedSlice> =
        slices.iter().map(|over| PairedSlice { over: *over, under: 1.0 }).collect();
    ratio_interval(&paired, seed)
}

/// The blocks of neighboring slices that are drawn.
#[derive(Debug, Clone, Copy)]
struct Blocks {
    count: usize,
    length: usize,
    blocks: usize,
}

impl Blocks {
    fn of(count: usize) -> Self {
        // In proportion to the cube root of the number of slices (Hall, Horowitz and Jing, 1995).
        let length = (1.5 * (count as f64).cbrt()).round().max(1.0) as usize;
        Self { count, length, blocks: count.div_ceil(length) }
    }

    /// As many slices as there are, in blocks.
    fn draw(self, random: &mut ChaCha8Rng) -> impl Iterator<Item = usize> {
        let Self { count, length, blocks } = self;
        let starts = (0..blocks).map(|_| random.random_range(0..count)).collect::<Vec<_>>();
        let chosen = starts
            .into_iter()
            .flat_map(move |start| (start..start + length).map(move |at| at % count));
        chosen.take(count)
    }
}

/// The interval around a logarithm that was found, from those that were drawn.
fn around(whole: f64, mut drawn: Vec<f64>, blocks: usize) -> Option<ConfidenceInterval> {
    if drawn.len() < DRAWS / 2 {
        return None;
    }
    drawn.sort_by(f64::total_cmp);
    let at = |share: f64| drawn[((drawn.len() - 1) as f64 * share).round() as usize];
    let wider = widening(blocks);
    let tail = (1.0 - CONFIDENCE) / 2.0;
    let end = |share: f64| (whole + (at(share) - whole) * wider).exp();
    Some(ConfidenceInterval { low: end(tail), high: end(1.0 - tail) })
}

/// By how much the percentiles of few blocks are too narrow: a deviation that is estimated from
/// them is too small, and follows Student's distribution rather than the normal one (Abramowitz and
/// Stegun, 26.7.5).
fn widening(blocks: usize) -> f64 {
    let free = (blocks as f64 - 1.0).max(1.0);
    // The normal quantile of the confidence.
    let normal = 1.959_964_f64;
    let student = normal + (normal.powi(3) + normal) / (4.0 * free);
    ((free + 1.0) / free).sqrt() * student / normal
}

#[cfg(test)]
mod tests {
    use rand_distr::{Distribution, LogNormal};
    use rstest::rstest;

    use super::*;

    /// Slices of two lanes whose true ratio is 20, with noise that both share and noise of their
    /// own, each carried over from slice to slice.
    fn slices(count: usize, carried: f64, seed: u64) -> Vec<PairedSlice> {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let noise = LogNormal::new(0.0, 0.2).unwrap();
        let mean = noise_mean();
        let mut draw = || noise.sample(&mut random) / mean - 1.0;
        let (mut over, mut under, mut shared) = (0.0, 0.0, 0.0);
        let mut next = |before: &mut f64| {
            let fresh = (1.0 - carried * carried).sqrt();
            *before = carried * *before + fresh * draw();
            *before
        };
        (0..count)
            .map(|_| {
                let shared = 1.0 + next(&mut shared);
                PairedSlice {
                    over: 20.0 * shared * (1.0 + next(&mut over)),
                    under: shared * (1.0 + next(&mut under)),
                }
            })
            .collect()
    }

    fn noise_mean() -> f64 {
        // Of a log-normal distribution with σ = 0.2.
        0.02_f64.exp()
    }

    #[rstest]
    #[case::independent(60, 0.0)]
    #[case::correlated(300, 0.4)]
    fn intervals_cover_the_truth_in_93_to_97_of_100(#[case] count: usize, #[case] carried: f64) {
        let covered = (0..1_000_u64).filter(|seed| {
            let interval = ratio_interval(&slices(count, carried, *seed), *seed).unwrap();
            (interval.low..=interval.high).contains(&20.0)
        });
        let share = covered.count() as f64 / 10.0;
        assert!((93.0..=97.0).contains(&share), "{share} of 100");
    }

    #[test]
    fn too_little_says_nothing() {
        let some = slices(MIN_SLICES, 0.0, 1);
        assert!(ratio_interval(&some, 1).is_some());
        assert_eq!(ratio_interval(&some[1..], 1), None);
        let nothing = vec![PairedSlice { over: 1.0, under: 0.0 }; 60];
        assert_eq!(ratio_interval(&nothing, 1), None);
    }

    #[test]
    fn more_slices_make_it_narrower() {
        let width = |count| {
            let interval = ratio_interval(&slices(count, 0.0, 5), 5).unwrap();
            interval.high - interval.low
        };
        assert!(width(400) < width(25) / 2.5, "{} {}", width(400), width(25));
    }
}
