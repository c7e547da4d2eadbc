//! How a warm plan is carried out.

use std::ops::RangeInclusive;
use std::time::Duration;

/// The range of concurrent refills in a warm run.
pub const CONCURRENCIES: RangeInclusive<u32> = 1..=256;

/// The most retries of a key.
pub const MAX_RETRIES: u32 = 10;

/// The range of an origin's share, in percent.
const SHARES: RangeInclusive<u32> = 1..=100;

/// The range of refills per second.
const RATES: RangeInclusive<f64> = 0.1..=100_000.0;

/// The range of deadlines.
const DEADLINES: RangeInclusive<Duration> =
    Duration::from_secs(1)..=Duration::from_secs(24 * 3_600);

/// The longest first pause before a retry.
const MAX_FIRST_PAUSE: Duration = Duration::from_secs(30);

/// In which order keys are refilled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WarmOrder {
    /// As the plan names them.
    #[default]
    Given,
    /// Those that are read most first.
    HottestFirst,
    /// Those that are refilled fastest first.
    CheapestFirst,
}

/// What is done with a key whose entry is fresh.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum FreshEntries {
    /// It is refilled, too: after the run, every entry is as new as the run.
    #[default]
    Refresh,
    /// It is refilled if it is fresh for less than this.
    RefreshWithin(Duration),
    /// It is left as it is.
    Skip,
}

/// What a start does while a run of the same plan is active.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Overlap {
    /// It is refused.
    #[default]
    Refuse,
    /// It follows the active run instead.
    Join,
    /// It begins when the active run has ended. One run waits at a time.
    Queue,
}

/// How a warm plan is carried out.
#[derive(Debug, Clone, PartialEq)]
pub struct WarmSettings {
    /// In which order.
    pub order: WarmOrder,
    /// The most concurrent refills.
    pub concurrency: u32,
    /// The most refills that begin in a second.
    pub max_per_second: Option<f64>,
    /// The most of the origin's concurrent calls that may be for the run, in percent.
    pub origin_share_percent: u32,
    /// After this time the run ends.
    pub deadline: Option<Duration>,
    /// What is done with fresh entries.
    pub fresh: FreshEntries,
    /// With more failed keys than this, the run ends.
    pub tolerated_failures: Option<u64>,
    /// How often a failed key is tried again.
    pub retries: u32,
    /// The longest pause before the first retry.
    pub first_pause: Duration,
    /// The max-age of what is stored, instead of the policy's.
    pub max_age: Option<Duration>,
    /// What a second run of the plan does.
    pub overlap: Overlap,
}

impl Default for WarmSettings {
    fn default() -> Self {
        Self {
            order: WarmOrder::default(),
            concurrency: 4,
            max_per_second: None,
            origin_share_percent: 50,
            deadline: None,
            fresh: FreshEntries::default(),
            tolerated_failures: None,
            retries: 2,
            first_pause: Duration::from_millis(200),
            max_age: None,
            overlap: Overlap::default(),
        }
    }
}

/// Why settings are refused.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum InvalidWarmSettings {
    /// The concurrency.
    #[error("a concurrency of {0} is out of range: use 1 to 256")]
    Concurrency(u32),
    /// The rate.
    #[error("{0} refills per second is out of range: use 0.1 to 100,000")]
    Rate(f64),
    /// The share of the origin.
    #[error("{0} % of the origin's capacity is out of range: use 1 to 100")]
    Share(u32),
    /// The deadline.
    #[error("a deadline of {} s is out of range: use 1 s to 24 h", .0.as_secs_f64())]
    Deadline(Duration),
    /// The number of retries.
    #[error("{0} retries are too many: use at most {MAX_RETRIES}")]
    Retries(u32),
    /// The first pause.
    #[error("a first pause of {} s is too long: use at most 30 s", .0.as_secs_f64())]
    FirstPause(Duration),
    /// A max-age of nothing.
    #[error("a max-age of 0 s would store nothing: leave it out for the policy's")]
    MaxAge,
}

impl WarmSettings {
    /// Checks them.
    ///
    /// # Errors
    /// [`InvalidWarmSettings`].
    pub fn check(&self) -> Result<(), InvalidWarmSettings> {
        use InvalidWarmSettings as Invalid;
        if !CONCURRENCIES.contains(&self.concurrency) {
            return Err(Invalid::Concurrency(self.concurrency));
        }
        if let Some(rate) = self.max_per_second.filter(|rate| !RATES.contains(rate)) {
            return Err(Invalid::Rate(rate));
        }
        if !SHARES.contains(&self.origin_share_percent) {
            return Err(Invalid::Share(self.origin_share_percent));
        }
        if let Some(deadline) = self.deadline.filter(|deadline| !DEADLINES.contains(deadline)) {
            return Err(Invalid::Deadline(deadline));
        }
        if self.retries > MAX_RETRIES {
            return Err(Invalid::Retries(self.retries));
        }
        if self.first_pause > MAX_FIRST_PAUSE {
            return Err(Invalid::FirstPause(self.first_pause));
        }
        match self.max_age {
            Some(max_age) if max_age.is_zero() => Err(Invalid::MaxAge),
            _ => Ok(()),
        }
    }

    /// How many of an origin's `places` a run may take at a time. One is always left to others; an
    /// origin with a single place has none for warming.
    pub fn places_of(&self, places: u32) -> u32 {
        let share = u64::from(places) * u64::from(self.origin_share_percent) / 100;
        (share.max(1) as u32).min(places.saturating_sub(1))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn with(change: impl FnOnce(&mut WarmSettings)) -> WarmSettings {
        let mut settings = WarmSettings::default();
        change(&mut settings);
        settings
    }

    #[rstest]
    #[case(with(|s| s.concurrency = 1), true)]
    #[case(with(|s| s.concurrency = 0), false)]
    #[case(with(|s| s.concurrency = 256), true)]
    #[case(with(|s| s.concurrency = 257), false)]
    #[case(with(|s| s.max_per_second = Some(0.1)), true)]
    #[case(with(|s| s.max_per_second = Some(0.09)), false)]
    #[case(with(|s| s.max_per_second = Some(100_000.0)), true)]
    #[case(with(|s| s.max_per_second = Some(100_000.1)), false)]
    #[case(with(|s| s.max_per_second = Some(f64::NAN)), false)]
    #[case(with(|s| s.origin_share_percent = 1), true)]
    #[case(with(|s| s.origin_share_percent = 0), false)]
    #[case(with(|s| s.origin_share_percent = 100), true)]
    #[case(with(|s| s.origin_share_percent = 101), false)]
    #[case(with(|s| s.deadline = Some(Duration::from_secs(1))), true)]
    #[case(with(|s| s.deadline = Some(Duration::from_millis(999))), false)]
    #[case(with(|s| s.deadline = Some(Duration::from_secs(86_400))), true)]
    #[case(with(|s| s.deadline = Some(Duration::from_secs(86_401))), false)]
    #[case(with(|s| s.retries = 10), true)]
    #[case(with(|s| s.retries = 11), false)]
    #[case(with(|s| s.first_pause = Duration::from_secs(30)), true)]
    #[case(with(|s| s.first_pause = Duration::from_millis(30_001)), false)]
    #[case(with(|s| s.max_age = Some(Duration::from_millis(1))), true)]
    #[case(with(|s| s.max_age = Some(Duration::ZERO)), false)]
    fn settings_are_bounded(#[case] settings: WarmSettings, #[case] valid: bool) {
        assert_eq!(settings.check().is_ok(), valid, "{settings:?}");
    }

    #[rstest]
    #[case(50, 8, 4)]
    #[case(100, 8, 7)]
    #[case(1, 8, 1)]
    #[case(50, 2, 1)]
    #[case(100, 1, 0)]
    fn one_place_is_left_to_others(#[case] share: u32, #[case] places: u32, #[case] taken: u32) {
        assert_eq!(with(|s| s.origin_share_percent = share).places_of(places), taken);
    }
}
