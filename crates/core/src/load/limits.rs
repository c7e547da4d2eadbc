//! What a load run may be at most, whatever its profile says.

use std::ops::RangeInclusive;
use std::time::Duration;

/// The most concurrent clients of one lane.
pub const MAX_CLIENTS: u32 = 1_000;

/// The highest rate of one lane, in requests per second.
pub const MAX_RATE: f64 = 200_000.0;

/// The most times as fast as it was recorded that traffic is replayed.
pub const MAX_PACE: f64 = 1_000.0;

/// The most requests of a run, all lanes together.
pub const MAX_REQUESTS: u64 = 200_000_000;

/// The limits on the measured time.
pub const DURATIONS: RangeInclusive<Duration> = Duration::from_secs(1)..=MAX_LENGTH;

/// The longest run, with its warm-up.
pub const MAX_LENGTH: Duration = Duration::from_secs(7_200);

/// How many lanes a run has.
pub const LANES: RangeInclusive<usize> = 2..=6;

/// The most stages of a run.
pub const MAX_STAGES: usize = 64;

/// The most processes that generate the load of a run.
pub const MAX_WORKERS: u32 = 16;
