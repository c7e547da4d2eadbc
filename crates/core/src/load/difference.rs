//! Comparing two runs: by how much a figure differs, and whether that is more than chance.

use serde::{Deserialize, Serialize};

use super::interval::{ConfidenceInterval, MIN_SLICES, ratio_of_means_interval};

/// Equal runs have equal intervals.
const SEED: u64 = 1;

/// What a difference comes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It is better, beyond chance.
    Better,
    /// It is worse, beyond chance.
    Worse,
    /// No difference was shown: the interval includes equality.
    NoDifference,
    /// There are too few seconds to tell.
    TooFew,
}

/// A figure of a lane in two runs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Difference {
    /// The mean over the seconds of the earlier run.
    pub before: f64,
    /// The mean over the seconds of the later run.
    pub after: f64,
    /// The later one divided by the earlier one.
    pub ratio: f64,
    /// The range of that, with a confidence of 95 %.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<ConfidenceInterval>,
    /// What it comes to.
    pub verdict: Verdict,
}

/// Compares a figure second by second in two runs; `None` when one of them has no seconds, or only
/// zeros.
pub fn difference(before: &[f64], after: &[f64], is_larger_better: bool) -> Option<Difference> {
    let mean = |slices: &[f64]| slices.iter().sum::<f64>() / slices.len() as f64;
    if before.is_empty() || after.is_empty() || mean(before) <= 0.0 {
        return None;
    }
    let ratio = mean(after) / mean(before);
    let interval = (before.len().min(after.len()) >= MIN_SLICES)
        .then(|| ratio_of_means_interval(after, before, SEED))
        .flatten();
    let verdict = match interval {
        None => Verdict::TooFew,
        Some(range) if range.low > 1.0 && is_larger_better => Verdict::Better,
        Some(range) if range.high < 1.0 && !is_larger_better => Verdict::Better,
        Some(range) if range.low > 1.0 || range.high < 1.0 => Verdict::Worse,
        Some(_) => Verdict::NoDifference,
    };
    Some(Difference { before: mean(before), after: mean(after), ratio, interval, verdict })
}

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    use super::*;

    fn seconds(mean: f64, count: usize, seed: u64) -> Vec<f64> {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        (0..count).map(|_| mean * random.random_range(0.8..1.2)).collect()
    }

    #[test]
    fn equal_runs_show_no_difference_in_most_experiments() {
        let shown = (0..100).filter(|seed| {
            let (before, after) = (seconds(100.0, 30, *seed), seconds(100.0, 30, seed + 1_000));
            difference(&before, &after, true).unwrap().verdict != Verdict::NoDifference
        });
        let shown = shown.count();
        assert!(shown <= 12, "{shown}");
    }

    #[test]
    fn a_difference_is_shown_on_its_side() {
        let (slow, fast) = (seconds(100.0, 30, 1), seconds(130.0, 30, 2));
        let verdict = |before: &[f64], after: &[f64], larger| {
            difference(before, after, larger).unwrap().verdict
        };
        assert_eq!(verdict(&slow, &fast, true), Verdict::Better);
        assert_eq!(verdict(&fast, &slow, true), Verdict::Worse);
        assert_eq!(verdict(&slow, &fast, false), Verdict::Worse);
        assert_eq!(verdict(&fast, &slow, false), Verdict::Better);
        let ratio = difference(&slow, &fast, true).unwrap().ratio;
        assert!((1.2..1.4).contains(&ratio), "{ratio}");
    }

    #[test]
    fn few_seconds_tell_nothing() {
        let seven = seconds(100.0, MIN_SLICES - 1, 1);
        let verdict = difference(&seven, &seconds(200.0, 30, 2), true).unwrap().verdict;
        assert_eq!(verdict, Verdict::TooFew);
        let eight = seconds(100.0, MIN_SLICES, 1);
        assert_eq!(
            difference(&eight, &seconds(200.0, 30, 2), true).unwrap().verdict,
            Verdict::Better
        );
        assert_eq!(difference(&[], &seven, true), None);
        assert_eq!(difference(&[0.0; 9], &seven, true), None);
    }
}
