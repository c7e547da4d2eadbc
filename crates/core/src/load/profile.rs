//! A load profile: what a load run does.

use std::ops::RangeInclusive;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::popularity::Popularity;
use crate::name::Name;

/// The most concurrent clients of one lane.
pub const MAX_CLIENTS: u32 = 1_000;

/// The limits on the measured time, alone and with the warm-up.
pub const DURATIONS: RangeInclusive<Duration> = Duration::from_secs(1)..=Duration::from_secs(3_600);

/// One way of reading inside a load run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub enum Lane {
    /// Through Verax.
    Cached,
    /// Straight from the origin.
    Direct,
}

impl Lane {
    /// Both lanes, in display order.
    pub const ALL: [Lane; 2] = [Lane::Cached, Lane::Direct];

    /// The lane's name.
    pub const fn name(self) -> &'static str {
        match self {
            Lane::Cached => "cached",
            Lane::Direct => "direct",
        }
    }
}

/// What a load run does, apart from which keys it reads: a closed loop in which each client of each
/// lane sends its next read when the one before is answered.
#[derive(Debug, Clone, PartialEq)]
pub struct LoadProfile {
    /// The profile's name.
    pub name: Name,
    /// Concurrent clients of each lane.
    pub clients: u32,
    /// How long the lanes run before figures are taken.
    pub warm_up: Duration,
    /// The measured time.
    pub duration: Duration,
    /// How often each key is read.
    pub popularity: Popularity,
    /// The seed of the key sequence, so that two runs read the same one.
    pub seed: u64,
}

/// Why a profile cannot be run.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidProfile {
    /// No clients, or more than [`MAX_CLIENTS`].
    #[error("clients = {0} is out of range: use 1 to {MAX_CLIENTS}")]
    Clients(u32),
    /// No time to measure, or more than an hour.
    #[error(
        "the run would take {0} seconds: use a duration of at least 1 second, and at most 3600 with the warm-up"
    )]
    Duration(u64),
}

impl LoadProfile {
    /// Checks the profile's numbers.
    ///
    /// # Errors
    /// [`InvalidProfile`] names the first number out of range.
    pub fn check(&self) -> Result<(), InvalidProfile> {
        if self.clients == 0 || self.clients > MAX_CLIENTS {
            return Err(InvalidProfile::Clients(self.clients));
        }
        let total = self.warm_up.saturating_add(self.duration);
        if self.duration < *DURATIONS.start() || total > *DURATIONS.end() {
            return Err(InvalidProfile::Duration(total.as_secs()));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(8, 2, 10, true)]
    #[case(0, 2, 10, false)]
    #[case(1_001, 2, 10, false)]
    #[case(8, 2, 0, false)]
    #[case(8, 3_590, 11, false)]
    fn numbers_are_bounded(
        #[case] clients: u32,
        #[case] warm_up: u64,
        #[case] duration: u64,
        #[case] valid: bool,
    ) {
        let profile = LoadProfile {
            name: Name::new("rush").unwrap(),
            clients,
            warm_up: Duration::from_secs(warm_up),
            duration: Duration::from_secs(duration),
            popularity: Popularity::Uniform,
            seed: 1,
        };
        assert_eq!(profile.check().is_ok(), valid);
    }
}
