//! How often each key of a load run is read.

use std::time::Duration;

use rand::{Rng, RngExt};
use rand_distr::{Distribution, Zipf};
use serde::{Deserialize, Serialize};

/// The popularity of the keys of a load run, in the order in which the keys are listed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Default)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Popularity {
    /// Every key as often as every other.
    #[default]
    Uniform,
    /// The key of rank `n` in proportion to `1 / n^exponent`.
    Zipf(f64),
    /// As `zipf`, but what is popular changes: again and again, the ranks move along the keys.
    DriftingZipf {
        /// The exponent.
        exponent: f64,
        /// How often the ranks move, in seconds.
        every_seconds: f64,
        /// How far they move each time, in percent of the keys.
        percent: f64,
    },
    /// A few keys have most of the reads; scans through all keys, one after another, disturb them.
    HotSet {
        /// How many keys are hot: the first ones.
        keys: u32,
        /// The share of reads of hot keys, in percent.
        percent: f64,
        /// The share of reads that scan, in percent. The rest reads any key.
        scan_percent: f64,
    },
    /// One key after another, again and again.
    Sequential,
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
    /// The drift is out of range.
    #[error(
        "the drift by {percent} % every {every_seconds} s is out of range: use 0 to 100 % and at \
         least 0.1 s"
    )]
    Drift {
        /// How far the ranks move, in percent.
        percent: f64,
        /// How often, in seconds.
        every_seconds: f64,
    },
    /// The hot set is out of range.
    #[error(
        "a hot set of {keys} keys with {percent} % of the reads and {scan_percent} % scans is out \
         of range: use 1 to {of} keys, and at most 100 % together"
    )]
    HotSet {
        /// How many keys are hot.
        keys: u32,
        /// Their share of the reads.
        percent: f64,
        /// The share of scans.
        scan_percent: f64,
        /// How many keys there are.
        of: usize,
    },
}

/// Draws keys by their popularity; the clients of a lane share it.
#[derive(Debug, Clone)]
pub struct KeyChooser {
    keys: usize,
    popularity: Popularity,
    zipf: Option<Zipf<f64>>,
}

/// The keys that one client of a lane reads.
#[derive(Debug)]
pub struct KeySequence {
    chooser: KeyChooser,
    /// Where its scan is. The clients of a lane scan together, each taking every n-th key.
    cursor: u64,
    step: u64,
}

impl Popularity {
    /// A chooser among `keys` keys.
    ///
    /// # Errors
    /// [`InvalidPopularity`] without keys, or with a number out of range.
    pub fn chooser(self, keys: usize) -> Result<KeyChooser, InvalidPopularity> {
        if keys == 0 {
            return Err(InvalidPopularity::NoKeys);
        }
        let zipf = |exponent| match exponent > 0.0 && exponent <= 10.0 {
            true => {
                Zipf::new(keys as f64, exponent).map_err(|_| InvalidPopularity::Exponent(exponent))
            }
            false => Err(InvalidPopularity::Exponent(exponent)),
        };
        let zipf = match self {
            Self::Uniform | Self::Sequential => None,
            Self::Zipf(exponent) => Some(zipf(exponent)?),
            Self::DriftingZipf { exponent, every_seconds, percent } => {
                let is_possible = (0.0..=100.0).contains(&percent)
                    && (0.1..=f64::from(u32::MAX)).contains(&every_seconds);
                if !is_possible {
                    return Err(InvalidPopularity::Drift { percent, every_seconds });
                }
                Some(zipf(exponent)?)
            }
            Self::HotSet { keys: hot, percent, scan_percent } => {
                let shares = [percent, scan_percent, percent + scan_percent];
                let is_possible = shares.iter().all(|share| (0.0..=100.0).contains(share))
                    && (1..=keys).contains(&(hot as usize));
                if !is_possible {
                    return Err(InvalidPopularity::HotSet {
                        keys: hot,
                        percent,
                        scan_percent,
                        of: keys,
                    });
                }
                None
            }
        };
        Ok(KeyChooser { keys, popularity: self, zipf })
    }
}

impl KeyChooser {
    /// The keys of client `client` of `clients` in all.
    pub fn sequence(&self, client: u32, clients: u32) -> KeySequence {
        let (cursor, step) = (u64::from(client), u64::from(clients.max(1)));
        KeySequence { chooser: self.clone(), cursor, step }
    }
}

impl KeySequence {
    fn scanned(&mut self) -> usize {
        let index = self.cursor % self.chooser.keys as u64;
        self.cursor += self.step;
        index as usize
    }

    /// The index of the next key to read, `elapsed` after the start of the run.
    pub fn choose(&mut self, elapsed: Duration, random: &mut impl Rng) -> usize {
        let keys = self.chooser.keys;
        let rank = |zipf: Option<&Zipf<f64>>, random: &mut _| {
            // Ranks count from 1.
            zipf.map_or(0, |zipf: &Zipf<f64>| zipf.sample(random) as usize - 1)
        };
        match self.chooser.popularity {
            Popularity::Uniform => random.random_range(0..keys),
            Popularity::Zipf(_) => rank(self.chooser.zipf.as_ref(), random),
            Popularity::DriftingZipf { every_seconds, percent, .. } => {
                let moves = (elapsed.as_secs_f64() / every_seconds) as u64;
                let distance = ((keys as f64 * percent / 100.0).round() as u64).max(1);
                let moved = (moves.wrapping_mul(distance) % keys as u64) as usize;
                (rank(self.chooser.zipf.as_ref(), random) + moved) % keys
            }
            Popularity::HotSet { keys: hot, percent, scan_percent } => {
                let drawn = random.random_range(0.0..100.0);
                if drawn < percent {
                    random.random_range(0..hot as usize)
                } else if drawn < percent + scan_percent {
                    self.scanned()
                } else {
                    random.random_range(0..keys)
                }
            }
            Popularity::Sequential => self.scanned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;

    use super::*;

    fn counts_at(popularity: Popularity, keys: usize, elapsed: u64) -> Vec<u32> {
        let mut sequence = popularity.chooser(keys).unwrap().sequence(0, 1);
        let mut random = ChaCha8Rng::seed_from_u64(7);
        let mut counts = vec![0; keys];
        let elapsed = Duration::from_secs(elapsed);
        (0..100_000).for_each(|_| counts[sequence.choose(elapsed, &mut random)] += 1);
        counts
    }

    fn counts(popularity: Popularity, keys: usize) -> Vec<u32> {
        counts_at(popularity, keys, 0)
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
    fn a_drifting_popularity_moves_along_the_keys() {
        let drifting =
            Popularity::DriftingZipf { exponent: 1.0, every_seconds: 10.0, percent: 30.0 };
        let most_read = |elapsed| {
            let counts = counts_at(drifting, 10, elapsed);
            (0..10).max_by_key(|index| counts[*index]).unwrap()
        };
        assert_eq!([0, 9, 10, 20, 40].map(most_read), [0, 0, 3, 6, 2]);
    }

    #[test]
    fn a_hot_set_has_its_share_and_scans_reach_every_key() {
        let hot = Popularity::HotSet { keys: 2, percent: 80.0, scan_percent: 20.0 };
        let counts = counts(hot, 100);
        let first: u32 = counts[..2].iter().sum();
        assert!((79_500..81_500).contains(&first), "{first}");
        // Scans alone read the others: each as often as every other.
        assert!(counts[2..].iter().all(|n| (190..=210).contains(n)), "{counts:?}");
    }

    #[test]
    fn clients_scan_together() {
        let chooser = Popularity::Sequential.chooser(5).unwrap();
        let mut random = ChaCha8Rng::seed_from_u64(1);
        let mut read = Vec::new();
        let mut clients: Vec<_> = (0..2).map(|client| chooser.sequence(client, 2)).collect();
        for _ in 0..5 {
            for client in &mut clients {
                read.push(client.choose(Duration::ZERO, &mut random));
            }
        }
        assert_eq!(read, [0, 1, 2, 3, 4, 0, 1, 2, 3, 4]);
    }

    #[test]
    fn impossible_popularities_are_refused() {
        assert!(Popularity::Uniform.chooser(0).is_err());
        for exponent in [0.0, -1.0, 10.5, f64::NAN] {
            assert!(Popularity::Zipf(exponent).chooser(5).is_err(), "{exponent}");
        }
        let drifting = |percent, every_seconds| {
            Popularity::DriftingZipf { exponent: 1.0, every_seconds, percent }.chooser(5).is_ok()
        };
        assert!(drifting(0.0, 0.1) && drifting(100.0, 1.0));
        assert!(!drifting(100.1, 1.0) && !drifting(10.0, 0.09) && !drifting(f64::NAN, 1.0));
        let hot_set = |keys, percent, scan_percent| {
            Popularity::HotSet { keys, percent, scan_percent }.chooser(5).is_ok()
        };
        assert!(hot_set(5, 100.0, 0.0) && hot_set(1, 60.0, 40.0));
        assert!(!hot_set(6, 50.0, 0.0) && !hot_set(0, 50.0, 0.0) && !hot_set(1, 60.0, 40.1));
    }

    #[test]
    fn popularity_reads_as_documented() {
        let read = |json| serde_json::from_str::<Popularity>(json).unwrap();
        assert_eq!(read(r#""sequential""#), Popularity::Sequential);
        assert_eq!(
            read(r#"{"hot-set":{"keys":3,"percent":90,"scan_percent":5}}"#),
            Popularity::HotSet { keys: 3, percent: 90.0, scan_percent: 5.0 }
        );
    }
}
