//! Rate limits: how much may be acquired from a key over time.
//!
//! The generic cell rate algorithm (ITU-T I.371, annex A) keeps one number for each key, the
//! theoretical arrival time: the moment at which the rate limit would be full again. Acquiring
//! moves it into the future; it may lie no further ahead than the burst allows.

use std::time::Duration;

use super::partition::Partition;
use crate::entry::{Entry, RATE_LIMIT_TYPE};
use crate::key::Key;
use crate::lifetime::Lifetime;
use crate::time::Timestamp;

/// How fast a rate limit refills, and how much it holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rate {
    count: u64,
    period: Duration,
    burst: u64,
}

/// The longest period of a rate.
pub const MAX_RATE_PERIOD: Duration = Duration::from_secs(366 * 24 * 3_600);

/// The largest count and burst of a rate.
pub const MAX_RATE_COUNT: u64 = 1_000_000_000;

/// A rate that is out of range.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum InvalidRate {
    /// A count of zero or beyond the limit.
    #[error("a rate of {0} for each period is out of range: use 1 to {MAX_RATE_COUNT}")]
    Count(u64),
    /// A burst of zero or beyond the limit.
    #[error("a burst of {0} is out of range: use 1 to {MAX_RATE_COUNT}")]
    Burst(u64),
    /// A period of zero or beyond the limit.
    #[error("a period of {} ms is out of range: use 1 ms to {} days", .0.as_millis(), MAX_RATE_PERIOD.as_secs() / 86_400)]
    Period(Duration),
}

impl Rate {
    /// `count` in each `period`, of which at most `burst` are available together.
    ///
    /// # Errors
    /// [`InvalidRate`] names the part that is out of range.
    pub fn new(count: u64, period: Duration, burst: u64) -> Result<Self, InvalidRate> {
        if count == 0 || count > MAX_RATE_COUNT {
            return Err(InvalidRate::Count(count));
        }
        if burst == 0 || burst > MAX_RATE_COUNT {
            return Err(InvalidRate::Burst(burst));
        }
        if period < Duration::from_millis(1) || period > MAX_RATE_PERIOD {
            return Err(InvalidRate::Period(period));
        }
        Ok(Self { count, period, burst })
    }

    /// How much is replenished in each period.
    pub const fn count(&self) -> u64 {
        self.count
    }

    /// The period.
    pub const fn period(&self) -> Duration {
        self.period
    }

    /// The maximum available at once.
    pub const fn burst(&self) -> u64 {
        self.burst
    }

    /// The time in which `amount` comes back, in nanoseconds, rounded up.
    fn time_of(&self, amount: u64) -> u128 {
        (u128::from(amount) * self.period.as_nanos()).div_ceil(u128::from(self.count))
    }

    /// How much comes back in a time, rounded down.
    fn amount_in(&self, nanoseconds: u128) -> u64 {
        (nanoseconds * u128::from(self.count) / self.period.as_nanos()) as u64
    }
}

/// The outcome of an attempt to acquire.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RateLimitOutcome {
    /// It was acquired; this much is still available now.
    Allowed {
        /// How much is left.
        left: u64,
    },
    /// Nothing was acquired: try again after this time.
    Later {
        /// The time until the requested amount is available.
        retry_after: Duration,
    },
}

/// Why an attempt to acquire can never succeed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RateLimitError {
    /// The request exceeds the burst.
    #[error("{amount} can never be acquired together: the burst is {burst}")]
    MoreThanBurst {
        /// The requested amount.
        amount: u64,
        /// The most that can be available.
        burst: u64,
    },
    /// The entry is not a rate limit.
    #[error("the entry is not a rate limit: delete it first or choose another key")]
    NotARateLimit,
}

impl Partition {
    /// Acquires from a rate limit atomically, if there is enough. A missing one is full; so is an
    /// evicted one, since any entry may vanish at any time.
    ///
    /// # Errors
    /// [`RateLimitError`] when it can never succeed.
    pub fn acquire_rate(
        &self,
        key: &Key,
        amount: u64,
        rate: Rate,
        now: Timestamp,
    ) -> Result<RateLimitOutcome, RateLimitError> {
        if amount > rate.burst {
            return Err(RateLimitError::MoreThanBurst { amount, burst: rate.burst });
        }
        let moment = u128::from(now.as_millis()) * 1_000_000;
        let outcome = self.update(key, now, |there| {
            let full_at = match there.map(|there| &there.found) {
                Some(found) => arrival(found.media_type().as_str(), found.value())
                    .ok_or(Refused::Never(RateLimitError::NotARateLimit))?,
                None => moment,
            };
            let taken_until = full_at.max(moment) + rate.time_of(amount);
            let latest = moment + rate.time_of(rate.burst);
            if taken_until > latest {
                return Err(Refused::Later(taken_until - latest));
            }
            let left = rate.amount_in(latest - taken_until);
            // An expired entry means a full rate limit, so no longer lifetime is needed.
            let lifetime = Lifetime::of(Duration::from_millis(
                (taken_until - moment).div_ceil(1_000_000) as u64,
            ));
            let entry = Entry::new(taken_until.to_string(), RATE_LIMIT_TYPE, lifetime, now);
            Ok((self.made(key, &entry), RateLimitOutcome::Allowed { left }))
        });
        match outcome {
            Ok(taken) => Ok(taken.made),
            Err(Refused::Later(nanoseconds)) => {
                let milliseconds = nanoseconds.div_ceil(1_000_000) as u64;
                Ok(RateLimitOutcome::Later { retry_after: Duration::from_millis(milliseconds) })
            }
            Err(Refused::Never(error)) => Err(error),
        }
    }
}

enum Refused {
    Later(u128),
    Never(RateLimitError),
}

/// The theoretical arrival time that a rate limit's entry holds, in nanoseconds.
fn arrival(media_type: &str, value: &[u8]) -> Option<u128> {
    let text = std::str::from_utf8(value).ok()?;
    (media_type == RATE_LIMIT_TYPE).then(|| text.parse().ok())?
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::NamespaceId;
    use crate::store::{Precondition, Quota, Store};

    fn at(millis: u64) -> Timestamp {
        Timestamp::from_millis(1_700_000_000_000 + millis)
    }

    #[test]
    fn a_burst_is_granted_and_refills_evenly() {
        let store = Store::new(1 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("quay-7").unwrap();
        let rate = Rate::new(10, Duration::from_secs(1), 3).unwrap();
        let take = |amount, now| partition.acquire_rate(&key, amount, rate, at(now)).unwrap();
        assert_eq!(take(2, 0), RateLimitOutcome::Allowed { left: 1 });
        assert_eq!(take(1, 0), RateLimitOutcome::Allowed { left: 0 });
        assert_eq!(take(1, 0), RateLimitOutcome::Later { retry_after: Duration::from_millis(100) });
        assert_eq!(take(1, 99), RateLimitOutcome::Later { retry_after: Duration::from_millis(1) });
        assert_eq!(take(1, 100), RateLimitOutcome::Allowed { left: 0 });
        assert_eq!(take(3, 400), RateLimitOutcome::Allowed { left: 0 });
    }

    #[test]
    fn impossible_requests_are_refused() {
        let store = Store::new(1 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("k").unwrap();
        let rate = Rate::new(1, Duration::from_secs(1), 3).unwrap();
        let error = partition.acquire_rate(&key, 4, rate, at(0)).unwrap_err();
        assert_eq!(error, RateLimitError::MoreThanBurst { amount: 4, burst: 3 });
        let entry =
            Entry::new("[]", "application/json", Lifetime::of(Duration::from_secs(9)), at(0));
        partition.put(&key, &entry, Precondition::Always, at(0)).unwrap();
        assert_eq!(
            partition.acquire_rate(&key, 1, rate, at(0)),
            Err(RateLimitError::NotARateLimit)
        );
        assert!(Rate::new(0, Duration::from_secs(1), 1).is_err());
        assert!(Rate::new(1, Duration::ZERO, 1).is_err());
        assert!(Rate::new(1, Duration::from_secs(1), 0).is_err());
    }

    proptest! {
        /// No window of time allows more than the burst and what comes back in the window; and a
        /// caller that returns when told succeeds, unless others acquired meanwhile.
        #[test]
        fn no_window_exceeds_burst_plus_rate(
            count in 1..50u64, burst in 1..20u64, steps in prop::collection::vec((0..400u64, 1..6u64), 1..60)
        ) {
            let store = Store::new(1 << 20);
            let partition = store.open(NamespaceId(1), Quota::default());
            let key = Key::new("k").unwrap();
            let rate = Rate::new(count, Duration::from_secs(1), burst).unwrap();
            let (mut now, mut allowed) = (0, Vec::new());
            for (wait, amount) in steps {
                now += wait;
                let amount = amount.min(burst);
                match partition.acquire_rate(&key, amount, rate, at(now)).unwrap() {
                    RateLimitOutcome::Allowed { left } => {
                        prop_assert!(left <= burst);
                        allowed.push((now, amount));
                    }
                    RateLimitOutcome::Later { retry_after } => {
                        now += retry_after.as_millis() as u64;
                        let again = partition.acquire_rate(&key, amount, rate, at(now)).unwrap();
                        prop_assert!(matches!(again, RateLimitOutcome::Allowed { .. }), "told to return too early");
                        allowed.push((now, amount));
                    }
                }
            }
            for (start, (from, _)) in allowed.iter().enumerate() {
                let mut sum = 0;
                for (until, amount) in &allowed[start..] {
                    sum += amount;
                    // One more than the rate's share, since a part of one may have come back
                    // before.
                    prop_assert!(sum * 1_000 <= (burst + 1) * 1_000 + (until - from) * count);
                }
            }
        }
    }
}
