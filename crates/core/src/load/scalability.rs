//! Where a system bends: the universal scalability law (Gunther, *Guerrilla Capacity Planning*,
//! 2007), fitted to a run in steps.
//!
//! With *n* clients, the throughput is λ·*n* / (1 + σ·(*n* − 1) + κ·*n*·(*n* − 1)). λ is that
//! of one client, σ the *contention* (what only one can do at a time), and κ the *coherency*
//! (what each must settle with every other). With κ > 0 the throughput has a peak at
//! √((1 − σ)/κ) clients; more of them lower it.
//!
//! The law is linear in (1/λ, σ/λ, κ/λ) for *n* / throughput; the fit is by weighted least squares
//! with weights that give equal relative errors of the throughput equal weight, and with no
//! negative part. Its uncertainty is that of the same fit without one step at a time (jackknife).
//!
//! ```
//! use verax_core::load::{Step, fit_scalability};
//!
//! let law = |n: f64| 1_000.0 * n / (1.0 + 0.05 * (n - 1.0) + 0.001 * n * (n - 1.0));
//! let steps: Vec<Step> = [1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0]
//!     .map(|clients| Step { clients, per_second: law(clients) })
//!     .into();
//! let fit = fit_scalability(&steps).expect("enough steps");
//! assert!((fit.contention - 0.05).abs() < 1e-6 && (fit.coherency - 0.001).abs() < 1e-6);
//! assert_eq!(fit.peak_clients.unwrap().round(), 31.0);
//! ```

use serde::{Deserialize, Serialize};

use super::interval::ConfidenceInterval;

/// With fewer steps, nothing is fitted.
pub const MIN_STEPS: usize = 4;

/// The throughput of a step.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Step {
    /// How many clients, or instances, there were.
    pub clients: f64,
    /// Answered reads per second.
    pub per_second: f64,
}

/// The universal scalability law, fitted.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Scalability {
    /// λ: reads per second of one client.
    pub of_one: f64,
    /// σ: the part that only one client can do at a time, 0 to 1.
    pub contention: f64,
    /// κ: what each client must settle with each other.
    pub coherency: f64,
    /// The range of the contention.
    pub contention_range: ConfidenceInterval,
    /// The range of the coherency.
    pub coherency_range: ConfidenceInterval,
    /// With how many clients the throughput is highest; `None` if it only levels off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_clients: Option<f64>,
    /// The throughput there, or what it levels off to; `None` if nothing bounds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_per_second: Option<f64>,
    /// The largest difference between a step and the law, as a share of the step.
    pub largest_error: f64,
}

impl Scalability {
    /// The expected throughput with so many clients.
    pub fn per_second(&self, clients: f64) -> f64 {
        let others = clients - 1.0;
        self.of_one * clients / (1.0 + self.contention * others + self.coherency * clients * others)
    }
}

/// λ, σ and κ.
#[derive(Debug, Clone, Copy)]
struct Law {
    of_one: f64,
    contention: f64,
    coherency: f64,
}

/// Solves a small linear system by Gaussian elimination with pivoting.
fn solve<const N: usize>(mut rows: [[f64; N]; N], mut right: [f64; N]) -> Option<[f64; N]> {
    for column in 0..N {
        let largest =
            |a: &usize, b: &usize| rows[*a][column].abs().total_cmp(&rows[*b][column].abs());
        let pivot = (column..N).max_by(largest)?;
        if rows[pivot][column].abs() < 1e-300 {
            return None;
        }
        rows.swap(column, pivot);
        right.swap(column, pivot);
        for row in column + 1..N {
            let factor = rows[row][column] / rows[column][column];
            let above = rows[column];
            for (cell, above) in rows[row].iter_mut().zip(above).skip(column) {
                *cell -= factor * above;
            }
            right[row] -= factor * right[column];
        }
    }
    let mut solved = [0.0; N];
    for row in (0..N).rev() {
        let known: f64 = (row + 1..N).map(|at| rows[row][at] * solved[at]).sum();
        solved[row] = (right[row] - known) / rows[row][row];
    }
    Some(solved)
}

/// The terms of n ÷ throughput: 1, n − 1, n(n − 1).
fn terms(clients: f64) -> [f64; 3] {
    [1.0, clients - 1.0, clients * (clients - 1.0)]
}

/// Least squares with the terms that `used` names.
fn squares<const N: usize>(steps: &[Step], used: [usize; N]) -> Option<[f64; N]> {
    let (mut rows, mut right) = ([[0.0; N]; N], [0.0; N]);
    for step in steps {
        let all = terms(step.clients);
        let row = used.map(|term| all[term]);
        let value = step.clients / step.per_second;
        // Equal relative errors have equal weight.
        let weight = (1.0 / value).powi(2);
        for a in 0..N {
            right[a] += weight * row[a] * value;
            for b in 0..N {
                rows[a][b] += weight * row[a] * row[b];
            }
        }
    }
    solve(rows, right)
}

/// The relative squared error of a law.
fn error_of(steps: &[Step], parts: [f64; 3]) -> f64 {
    let error = |step: &Step| {
        let all = terms(step.clients);
        let expected: f64 = parts.iter().zip(all).map(|(part, term)| part * term).sum();
        (expected * step.per_second / step.clients - 1.0).powi(2)
    };
    steps.iter().map(error).sum()
}

/// The best law without a negative part: of the fits with all, some or no terms, the one that fits
/// best.
fn law_of(steps: &[Step]) -> Option<Law> {
    let fits = [
        squares(steps, [0, 1, 2]),
        squares(steps, [0, 1]).map(|[a, b]| [a, b, 0.0]),
        squares(steps, [0, 2]).map(|[a, c]| [a, 0.0, c]),
        squares(steps, [0]).map(|[a]| [a, 0.0, 0.0]),
    ];
    let valid = |parts: &[f64; 3]| parts[0] > 0.0 && parts[1] >= 0.0 && parts[2] >= 0.0;
    let best = fits
        .into_iter()
        .flatten()
        .filter(valid)
        .min_by(|a, b| error_of(steps, *a).total_cmp(&error_of(steps, *b)))?;
    let [one, contention, coherency] = best;
    Some(Law { of_one: 1.0 / one, contention: contention / one, coherency: coherency / one })
}

/// Two deviations around a value by the jackknife, not below zero.
fn range(value: f64, without_one: &[f64]) -> ConfidenceInterval {
    let count = without_one.len() as f64;
    let mean = without_one.iter().sum::<f64>() / count;
    let spread: f64 = without_one.iter().map(|other| (other - mean).powi(2)).sum();
    let deviation = (spread * (count - 1.0) / count).sqrt();
    ConfidenceInterval { low: (value - 2.0 * deviation).max(0.0), high: value + 2.0 * deviation }
}

/// Fits the law to the steps of a run; `None` with fewer than [`MIN_STEPS`] that answered anything.
pub fn fit_scalability(steps: &[Step]) -> Option<Scalability> {
    let is_usable = |step: &&Step| step.clients >= 1.0 && step.per_second > 0.0;
    let steps: Vec<Step> = steps.iter().filter(is_usable).copied().collect();
    if steps.len() < MIN_STEPS {
        return None;
    }
    let law = law_of(&steps)?;
    let without_one: Vec<Law> = (0..steps.len())
        .filter_map(|left_out| {
            let mut others = steps.clone();
            others.remove(left_out);
            law_of(&others)
        })
        .collect();
    let ranges =
        |of: fn(&Law) -> f64| range(of(&law), &without_one.iter().map(of).collect::<Vec<_>>());
    let peak_clients = (law.coherency > 0.0)
        .then(|| ((1.0 - law.contention).max(0.0) / law.coherency).sqrt().max(1.0));
    let contention_range = ranges(|law| law.contention);
    let mut fit = Scalability {
        of_one: law.of_one,
        contention: law.contention,
        coherency: law.coherency,
        // A share is not more than all.
        contention_range: ConfidenceInterval {
            high: contention_range.high.min(1.0),
            ..contention_range
        },
        coherency_range: ranges(|law| law.coherency),
        peak_clients,
        peak_per_second: (law.contention > 0.0).then(|| law.of_one / law.contention),
        largest_error: 0.0,
    };
    if let Some(clients) = peak_clients {
        fit.peak_per_second = Some(fit.per_second(clients));
    }
    let errors =
        steps.iter().map(|step| (fit.per_second(step.clients) / step.per_second - 1.0).abs());
    fit.largest_error = errors.fold(0.0, f64::max);
    Some(fit)
}

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;

    use super::*;

    const CLIENTS: [f64; 9] = [1.0, 2.0, 4.0, 8.0, 12.0, 16.0, 24.0, 32.0, 48.0];

    fn steps(contention: f64, coherency: f64, noise: f64, seed: u64) -> Vec<Step> {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let step = |clients: f64| {
            let others = clients - 1.0;
            let exact =
                500.0 * clients / (1.0 + contention * others + coherency * clients * others);
            let per_second = exact * (1.0 + noise * random.random_range(-1.0..1.0));
            Step { clients, per_second }
        };
        CLIENTS.into_iter().map(step).collect()
    }

    #[rstest]
    #[case::contention_only(0.08, 0.0)]
    #[case::both(0.03, 0.0008)]
    #[case::retrograde(0.02, 0.004)]
    #[case::linear(0.0, 0.0)]
    fn known_curves_are_recovered(#[case] contention: f64, #[case] coherency: f64) {
        let exact = fit_scalability(&steps(contention, coherency, 0.0, 1)).unwrap();
        assert!((exact.contention - contention).abs() < 1e-6, "{exact:?}");
        assert!((exact.coherency - coherency).abs() < 1e-6, "{exact:?}");
        assert!(exact.largest_error < 1e-6 && (exact.of_one - 500.0).abs() < 1e-3);
        // With two percent of noise either way.
        for seed in 0..50 {
            let fit = fit_scalability(&steps(contention, coherency, 0.02, seed)).unwrap();
            assert!((fit.contention - contention).abs() < 0.012, "{seed}: {fit:?}");
            assert!((fit.coherency - coherency).abs() < 0.0005, "{seed}: {fit:?}");
            if let (Some(peak), true) = (fit.peak_clients, coherency >= 0.0008) {
                let truth = ((1.0 - contention) / coherency).sqrt();
                assert!((peak / truth - 1.0).abs() < 0.35, "{seed}: {peak} for {truth}");
            }
        }
    }

    #[test]
    fn ranges_cover_the_truth_and_narrow_with_less_noise() {
        let (contention, coherency) = (0.03, 0.0008);
        let covered = (0..200).filter(|seed| {
            let fit = fit_scalability(&steps(contention, coherency, 0.03, *seed)).unwrap();
            (fit.contention_range.low..=fit.contention_range.high).contains(&contention)
                && (fit.coherency_range.low..=fit.coherency_range.high).contains(&coherency)
        });
        assert!(covered.count() >= 160);
        let width = |noise| {
            let fit = fit_scalability(&steps(contention, coherency, noise, 3)).unwrap();
            fit.contention_range.high - fit.contention_range.low
        };
        assert!(width(0.002) < width(0.04) / 5.0);
    }

    #[test]
    fn too_few_steps_say_nothing_and_negative_parts_do_not_occur() {
        let some = steps(0.05, 0.001, 0.0, 1);
        assert!(fit_scalability(&some[..MIN_STEPS]).is_some());
        assert_eq!(fit_scalability(&some[..MIN_STEPS - 1]), None);
        let failed = Step { clients: 64.0, per_second: 0.0 };
        let mut more = some[..MIN_STEPS - 1].to_vec();
        more.push(failed);
        assert_eq!(fit_scalability(&more), None);
        // Better than linear, as with a warming cache: no law with a negative contention.
        let better: Vec<Step> =
            CLIENTS.map(|clients| Step { clients, per_second: clients.powf(1.2) }).into();
        let fit = fit_scalability(&better).unwrap();
        assert_eq!((fit.contention, fit.coherency), (0.0, 0.0));
        assert_eq!((fit.peak_clients, fit.peak_per_second), (None, None));
    }

    #[test]
    fn a_curve_that_levels_off_has_a_limit_and_no_peak() {
        let fit = fit_scalability(&steps(0.1, 0.0, 0.0, 1)).unwrap();
        let limit = fit.peak_per_second.unwrap();
        assert!(fit.coherency < 1e-9 && (limit - 5_000.0).abs() < 50.0, "{fit:?}");
    }
}
