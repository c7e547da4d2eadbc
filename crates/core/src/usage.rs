//! Usage over time: what is kept, in which steps, and for how long.

use std::time::Duration;

use crate::time::Timestamp;

/// The resolution of usage: finer steps are kept for a shorter time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum UsageStep {
    /// Ten seconds, kept for an hour.
    TenSeconds,
    /// A minute, kept for a day.
    Minute,
    /// Fifteen minutes, kept for 31 days.
    QuarterHour,
    /// A day (UTC), kept for two years.
    Day,
}

/// The most points of one answer.
pub const MAX_POINTS: u64 = 3_000;

const HOUR: u64 = 3_600;
const DAY: u64 = 24 * HOUR;

impl UsageStep {
    /// Every step, finest first.
    pub const ALL: [Self; 4] = [Self::TenSeconds, Self::Minute, Self::QuarterHour, Self::Day];

    /// Its length in seconds.
    pub const fn seconds(self) -> u64 {
        match self {
            Self::TenSeconds => 10,
            Self::Minute => 60,
            Self::QuarterHour => 900,
            Self::Day => DAY,
        }
    }

    /// For how long it is kept.
    pub const fn kept_for(self) -> Duration {
        Duration::from_secs(match self {
            Self::TenSeconds => HOUR,
            Self::Minute => DAY,
            Self::QuarterHour => 31 * DAY,
            Self::Day => 731 * DAY,
        })
    }

    /// The step of this length.
    pub fn of_seconds(seconds: u64) -> Option<Self> {
        Self::ALL.into_iter().find(|step| step.seconds() == seconds)
    }

    /// The beginning of the slot that a time belongs to.
    pub fn slot(self, at: Timestamp) -> Timestamp {
        let length = self.seconds() * 1_000;
        Timestamp::from_millis(at.as_millis() / length * length)
    }

    /// The end of the slot that begins at `slot`.
    pub fn end(self, slot: Timestamp) -> Timestamp {
        slot + Duration::from_secs(self.seconds())
    }

    /// The finest step that is still kept at `from` and gives no more than [`MAX_POINTS`] points
    /// until `to`; a day if none is.
    ///
    /// ```
    /// use std::time::Duration;
    /// use verax_core::Timestamp;
    /// use verax_core::usage::UsageStep;
    ///
    /// let (now, hour) = (Timestamp::from_millis(90_000_000_000), Duration::from_secs(3_600));
    /// assert_eq!(UsageStep::choose(now - hour, now, now), UsageStep::TenSeconds);
    /// assert_eq!(UsageStep::choose(now - 2 * hour, now, now), UsageStep::Minute);
    /// assert_eq!(UsageStep::choose(now - 200 * hour, now, now), UsageStep::QuarterHour);
    /// ```
    pub fn choose(from: Timestamp, to: Timestamp, now: Timestamp) -> Self {
        let fits = |step: &Self| {
            let points = to.since(from).as_secs() / step.seconds();
            now.since(from) <= step.kept_for() && points <= MAX_POINTS
        };
        Self::ALL.into_iter().find(fits).unwrap_or(Self::Day)
    }
}

/// What a namespace, or several together, used within a slot.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct UsageFigures {
    /// Entries at its end.
    pub entries: u64,
    /// Their memory at its end, in bytes.
    pub bytes: u64,
    /// Reads.
    pub reads: u64,
    /// Hits, fresh or stale, including negative entries.
    pub hits: u64,
    /// Bytes of values that came from callers.
    pub received_bytes: u64,
    /// Bytes of values that were sent to callers.
    pub sent_bytes: u64,
    /// Reads of the origin, by the service or by callers with a permit.
    pub origin_reads: u64,
    /// The time that the hits would have taken at the origin, in milliseconds.
    pub origin_saved_ms: u64,
    /// Entries evicted.
    pub evictions: u64,
    /// Entries that expired.
    pub expirations: u64,
    /// Requests refused because of a quota.
    pub refusals: u64,
}

impl UsageFigures {
    /// Continues this with what came after it, within the same namespace: counts add up, and levels
    /// are those of `later`.
    pub fn then(&mut self, later: &Self) {
        self.add_counts(later);
        (self.entries, self.bytes) = (later.entries, later.bytes);
    }

    /// Adds another namespace at the same time.
    pub fn add(&mut self, other: &Self) {
        self.add_counts(other);
        self.entries += other.entries;
        self.bytes += other.bytes;
    }

    fn add_counts(&mut self, other: &Self) {
        self.reads += other.reads;
        self.hits += other.hits;
        self.received_bytes += other.received_bytes;
        self.sent_bytes += other.sent_bytes;
        self.origin_reads += other.origin_reads;
        self.origin_saved_ms += other.origin_saved_ms;
        self.evictions += other.evictions;
        self.expirations += other.expirations;
        self.refusals += other.refusals;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn slots_tile_time(millis in 0_u64..4_000_000_000_000, which in 0_usize..4) {
            let (step, at) = (UsageStep::ALL[which], Timestamp::from_millis(millis));
            let slot = step.slot(at);
            prop_assert!(slot <= at && at < step.end(slot));
            prop_assert_eq!(step.slot(slot), slot);
            prop_assert_eq!(step.slot(step.end(slot)), step.end(slot));
            // A coarser slot holds whole finer ones.
            for finer in UsageStep::ALL.into_iter().take(which) {
                prop_assert_eq!(step.slot(finer.slot(at)), slot);
            }
            prop_assert_eq!(UsageStep::of_seconds(step.seconds()), Some(step));
        }

        #[test]
        fn the_chosen_step_is_kept_and_bounded(back in 0_u64..80_000_000, length in 1_u64..80_000_000) {
            let now = Timestamp::from_millis(4_000_000_000_000);
            let from = now - Duration::from_secs(back);
            let to = from + Duration::from_secs(length.min(back));
            let step = UsageStep::choose(from, to, now);
            let points = to.since(from).as_secs() / step.seconds();
            prop_assert!(points <= MAX_POINTS);
            prop_assert!(now.since(from) <= step.kept_for() || step == UsageStep::Day);
        }
    }

    #[test]
    fn counts_add_up_and_levels_are_the_latest() {
        let of = |entries, reads| UsageFigures { entries, reads, ..UsageFigures::default() };
        let mut slot = of(5, 10);
        slot.then(&of(3, 7));
        assert_eq!(slot, of(3, 17));
        slot.add(&of(4, 1));
        assert_eq!(slot, of(7, 18));
    }
}
