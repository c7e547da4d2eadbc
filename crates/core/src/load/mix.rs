//! What the requests of a load run do: reads, invalidations, and writes.

use rand::{Rng, RngExt};
use rand_distr::{Distribution, LogNormal};
use serde::{Deserialize, Serialize};

use super::invalid_profile::InvalidProfile;

/// The largest value that a run puts, in bytes.
pub const MAX_VALUE_BYTES: u32 = 1 << 20;

/// What a request does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Reads a key.
    Read,
    /// Ends the entry of a key, as an application does after it changed the data behind it.
    Invalidate,
    /// Puts a value of so many bytes; through to the origin if the namespace writes through.
    Put(u32),
}

/// The sizes of the values that are put, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum ValueSize {
    /// All have the same.
    Fixed(u32),
    /// Each size between two as often as every other.
    Between(u32, u32),
    /// Log-normal: the median and the 99th percentile, as sizes of documents are distributed.
    LogNormal {
        /// Half of them are smaller.
        median: u32,
        /// One in a hundred is larger.
        p99: u32,
    },
}

impl Default for ValueSize {
    fn default() -> Self {
        Self::Fixed(512)
    }
}

/// The 99th percentile of the standard normal distribution.
const NORMAL_P99: f64 = 2.326_347_874;

impl ValueSize {
    fn bounds(self) -> (u32, u32) {
        match self {
            Self::Fixed(bytes) => (bytes, bytes),
            Self::Between(low, high) => (low, high),
            Self::LogNormal { median, p99 } => (median, p99),
        }
    }

    /// A size by chance, at most [`MAX_VALUE_BYTES`].
    pub fn choose(self, random: &mut impl Rng) -> u32 {
        match self {
            Self::Fixed(bytes) => bytes,
            Self::Between(low, high) => random.random_range(low..=high),
            Self::LogNormal { median, p99 } => {
                let (median, p99) = (f64::from(median.max(1)), f64::from(p99.max(1)));
                let deviation = (p99 / median).ln().max(0.0) / NORMAL_P99;
                let sizes = LogNormal::new(median.ln(), deviation);
                let size = sizes.map_or(median, |sizes| sizes.sample(random));
                size.round().clamp(1.0, f64::from(MAX_VALUE_BYTES)) as u32
            }
        }
    }
}

/// The shares of what requests do. The rest are reads.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Mix {
    /// The share of invalidations, in percent.
    pub invalidate_percent: f64,
    /// The share of puts, in percent.
    pub put_percent: f64,
    /// The sizes of the values that are put.
    pub value_bytes: ValueSize,
    /// Whether made-up values may be put.
    pub writes_allowed: bool,
}

impl Mix {
    /// Whether requests only read.
    pub fn only_reads(&self) -> bool {
        self.invalidate_percent == 0.0 && self.put_percent == 0.0
    }

    /// What the next request does.
    pub fn choose(&self, random: &mut impl Rng) -> Action {
        if self.only_reads() {
            return Action::Read;
        }
        let drawn = random.random_range(0.0..100.0);
        if drawn < self.invalidate_percent {
            Action::Invalidate
        } else if drawn < self.invalidate_percent + self.put_percent {
            Action::Put(self.value_bytes.choose(random))
        } else {
            Action::Read
        }
    }

    pub(super) fn check(&self) -> Result<(), InvalidProfile> {
        let both = self.invalidate_percent + self.put_percent;
        for (what, value) in [
            ("invalidate_percent", self.invalidate_percent),
            ("put_percent", self.put_percent),
            ("invalidate_percent with put_percent", both),
        ] {
            if !(0.0..=100.0).contains(&value) {
                return Err(InvalidProfile::Share { what, value });
            }
        }
        let (low, high) = self.value_bytes.bounds();
        if low > high || high > MAX_VALUE_BYTES {
            let range = "use sizes in rising order, at most 1048576 bytes";
            let value = f64::from(high);
            return Err(InvalidProfile::Number { what: "value_bytes", value, range });
        }
        match self.put_percent > 0.0 && !self.writes_allowed {
            true => Err(InvalidProfile::Writes),
            false => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;

    use super::*;

    #[test]
    fn actions_have_their_shares() {
        let mix = Mix {
            invalidate_percent: 2.0,
            put_percent: 10.0,
            value_bytes: ValueSize::Fixed(7),
            writes_allowed: true,
        };
        let mut random = ChaCha8Rng::seed_from_u64(1);
        let actions: Vec<Action> = (0..50_000).map(|_| mix.choose(&mut random)).collect();
        let share = |action| actions.iter().filter(|a| **a == action).count() as f64 / 50_000.0;
        assert!((share(Action::Invalidate) - 0.02).abs() < 0.003);
        assert!((share(Action::Put(7)) - 0.1).abs() < 0.005);
    }

    #[test]
    fn sizes_follow_their_distribution() {
        let mut random = ChaCha8Rng::seed_from_u64(2);
        let sizes = ValueSize::LogNormal { median: 400, p99: 8_000 };
        let mut drawn: Vec<u32> = (0..40_000).map(|_| sizes.choose(&mut random)).collect();
        drawn.sort_unstable();
        assert!((390..=410).contains(&drawn[20_000]), "{}", drawn[20_000]);
        assert!((7_200..=8_800).contains(&drawn[39_600]), "{}", drawn[39_600]);
        let between: Vec<u32> =
            (0..1_000).map(|_| ValueSize::Between(3, 5).choose(&mut random)).collect();
        assert!(between.iter().all(|size| (3..=5).contains(size)) && between.contains(&5));
    }

    #[test]
    fn shares_and_sizes_are_bounded_and_puts_need_leave() {
        let mix = |invalidate_percent, put_percent, value_bytes, writes_allowed| {
            Mix { invalidate_percent, put_percent, value_bytes, writes_allowed }.check()
        };
        let size = ValueSize::default();
        assert_eq!(mix(0.0, 100.0, size, true), Ok(()));
        assert_eq!(mix(60.0, 40.0, size, true), Ok(()));
        assert!(mix(60.0, 40.1, size, true).is_err() && mix(-1.0, 0.0, size, true).is_err());
        assert!(mix(f64::NAN, 0.0, size, true).is_err());
        assert_eq!(mix(0.0, 0.1, size, false), Err(InvalidProfile::Writes));
        assert_eq!(mix(5.0, 0.0, size, false), Ok(()));
        let sizes = |value_bytes| mix(0.0, 1.0, value_bytes, true).is_ok();
        assert!(sizes(ValueSize::Fixed(MAX_VALUE_BYTES)) && sizes(ValueSize::Between(5, 5)));
        assert!(!sizes(ValueSize::Fixed(MAX_VALUE_BYTES + 1)) && !sizes(ValueSize::Between(6, 5)));
        assert!(!sizes(ValueSize::LogNormal { median: 9, p99: 8 }));
    }
}
