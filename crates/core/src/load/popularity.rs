//! How often each key of a load run is read.

use rand::{Rng, RngExt};
use rand_distr::{Distribution, Zipf};
use serde::{Deserialize, Serialize};

/// The popularity of the keys of a load run, in the order in which the keys are listed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Default)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Popularity {
    /// Every key as often as every other.
    #[default]
    Uniform,
    /// The key of rank `n` in proportion to `1 / n^exponent`.
    Zipf(f64),
}

/// A popularity that no keys can be drawn from.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum InvalidPopularity {
    /// There are no keys.
    #[error("there are no keys to read: the pattern and its values make none")]
    NoKeys,
    /// The exponent is out of range.
    #[error("the Zipf exponent {0} is out of range: use more than 0 and at most 10")]
    Exponent(f64),
}

/// Draws keys by their popularity.
#[derive(Debug, Clone)]
pub enum KeyChooser {
    #[doc(hidden)]
    Uniform(usize),
    #[doc(hidden)]
    Zipf(Zipf<f64>),
}

impl Popularity {
    /// A chooser among `keys` keys.
    ///
    /// # Errors
    /// [`InvalidPopularity`] without keys, or with an exponent out of range.
    pub fn chooser(self, keys: usize) -> Result<KeyChooser, InvalidPopularity> {
        if keys == 0 {
            return Err(InvalidPopularity::NoKeys);
        }
        match self {
            Popularity::Uniform => Ok(KeyChooser::Uniform(keys)),
            Popularity::Zipf(exponent) if exponent > 0.0 && exponent <= 10.0 => {
                let zipf = Zipf::new(keys as f64, exponent);
                zipf.map(KeyChooser::Zipf).map_err(|_| InvalidPopularity::Exponent(exponent))
            }
            Popularity::Zipf(exponent) => Err(InvalidPopularity::Exponent(exponent)),
        }
    }
}

impl KeyChooser {
    /// The index of the next key to read.
    pub fn choose(&self, random: &mut impl Rng) -> usize {
        match self {
            KeyChooser::Uniform(keys) => random.random_range(0..*keys),
            KeyChooser::Zipf(zipf) => zipf.sample(random) as usize - 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;

    use super::*;

    fn counts(popularity: Popularity, keys: usize) -> Vec<u32> {
        let chooser = popularity.chooser(keys).unwrap();
        let mut random = ChaCha8Rng::seed_from_u64(7);
        let mut counts = vec![0; keys];
        (0..100_000).for_each(|_| counts[chooser.choose(&mut random)] += 1);
        counts
    }

    #[test]
    fn uniform_reads_every_key_equally_often() {
        assert!(counts(Popularity::Uniform, 10).iter().all(|n| (9_000..11_000).contains(n)));
    }

    #[test]
    fn zipf_follows_the_ranks() {
        let counts = counts(Popularity::Zipf(1.0), 10);
        // With exponent 1 the first key is read twice as often as the second, five times the fifth.
        let ratio = |a: usize, b: usize| f64::from(counts[a]) / f64::from(counts[b]);
        assert!((1.9..2.1).contains(&ratio(0, 1)), "{counts:?}");
        assert!((4.7..5.3).contains(&ratio(0, 4)), "{counts:?}");
    }

    #[test]
    fn impossible_popularities_are_refused() {
        assert!(Popularity::Uniform.chooser(0).is_err());
        for exponent in [0.0, -1.0, 10.5, f64::NAN] {
            assert!(Popularity::Zipf(exponent).chooser(5).is_err(), "{exponent}");
        }
    }
}
