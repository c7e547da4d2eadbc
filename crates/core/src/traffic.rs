//! How much may pass in a second: requests and bytes, of a namespace or of a tenant.
//!
//! A [`Throttle`] is a GCRA (the generic cell rate algorithm, ITU-T I.371) in one atomic number:
//! the moment until which what has passed is paid for. It allows a burst of one second. What is
//! known only afterwards, such as the bytes of a value, is charged without a check, and what
//! follows waits until it is paid for.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::time::Timestamp;

/// The burst that a rate allows.
pub const BURST: Duration = Duration::from_secs(1);

/// The highest rate, in a second: more is no limit.
pub const MAX_PER_SECOND: u64 = 100_000_000_000;

const SECOND: u64 = 1_000_000_000;

/// What may pass in a second; `None` is without a limit.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct TrafficQuota {
    /// Requests. A batch counts as many as it has operations.
    pub requests_per_second: Option<u64>,
    /// Bytes of values, in both directions.
    pub bytes_per_second: Option<u64>,
}

/// Why a rate is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{what} of {rate} a second is out of range: use 1 to {MAX_PER_SECOND}, or none")]
pub struct InvalidTraffic {
    what: &'static str,
    rate: u64,
}

impl TrafficQuota {
    /// Checks its numbers.
    ///
    /// # Errors
    /// [`InvalidTraffic`] names the first rate out of range.
    pub fn check(&self) -> Result<(), InvalidTraffic> {
        let rates = [("a rate", self.requests_per_second), ("a byte rate", self.bytes_per_second)];
        let out = |(_, rate): &(_, Option<u64>)| rate.is_some_and(|r| r == 0 || r > MAX_PER_SECOND);
        match rates.into_iter().find(out) {
            Some((what, Some(rate))) => Err(InvalidTraffic { what, rate }),
            _ => Ok(()),
        }
    }
}

/// A rate, and what has passed of it.
#[derive(Debug, Default)]
pub struct Throttle {
    /// In a second; 0 is without a limit.
    rate: AtomicU64,
    /// Until when what has passed is paid for, in nanoseconds.
    paid_until: AtomicU64,
}

fn nanos(now: Timestamp) -> u64 {
    now.as_millis().saturating_mul(1_000_000)
}

impl Throttle {
    /// The rate; `None` is without a limit.
    pub fn rate(&self) -> Option<u64> {
        Some(self.rate.load(Ordering::Relaxed)).filter(|rate| *rate > 0)
    }

    /// Sets the rate. Debts are forgiven.
    pub fn set_rate(&self, rate: Option<u64>, now: Timestamp) {
        self.rate.store(rate.unwrap_or(0), Ordering::Relaxed);
        self.paid_until.fetch_min(nanos(now), Ordering::Relaxed);
    }

    /// The time that `amount` takes at the rate, in nanoseconds.
    fn cost(rate: u64, amount: u64) -> u64 {
        let nanos = (u128::from(amount) * u128::from(SECOND)).div_ceil(u128::from(rate));
        u64::try_from(nanos).unwrap_or(u64::MAX)
    }

    /// Lets one pass if the rate allows it.
    ///
    /// # Errors
    /// After how long it may be tried again; nothing has passed.
    pub fn admit(&self, now: Timestamp) -> Result<(), Duration> {
        let Some(rate) = self.rate() else { return Ok(()) };
        let (now, cost) = (nanos(now), Self::cost(rate, 1));
        let most = now.saturating_add(BURST.as_nanos() as u64);
        let paid = |until: u64| {
            let until = until.max(now).saturating_add(cost);
            (until <= most).then_some(until)
        };
        let updated = self.paid_until.fetch_update(Ordering::Relaxed, Ordering::Relaxed, paid);
        match updated {
            Ok(_) => Ok(()),
            Err(until) => Err(Duration::from_nanos(until.saturating_add(cost) - most)),
        }
    }

    /// Whether something may pass that is charged once its amount is known.
    ///
    /// # Errors
    /// After how long it may be tried again.
    pub fn look(&self, now: Timestamp) -> Result<(), Duration> {
        if self.rate().is_none() {
            return Ok(());
        }
        let most = nanos(now).saturating_add(BURST.as_nanos() as u64);
        match self.paid_until.load(Ordering::Relaxed).saturating_sub(most) {
            0 => Ok(()),
            over => Err(Duration::from_nanos(over)),
        }
    }

    /// Charges what has passed.
    pub fn charge(&self, amount: u64, now: Timestamp) {
        let Some(rate) = self.rate().filter(|_| amount > 0) else { return };
        let (now, cost) = (nanos(now), Self::cost(rate, amount));
        let paid = |until: u64| Some(until.max(now).saturating_add(cost));
        let _ = self.paid_until.fetch_update(Ordering::Relaxed, Ordering::Relaxed, paid);
    }

    /// Takes back one that was admitted and did not pass.
    pub fn take_back(&self) {
        if let Some(rate) = self.rate() {
            let cost = Self::cost(rate, 1);
            let less = |until: u64| Some(until.saturating_sub(cost));
            let _ = self.paid_until.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn at(millis: u64) -> Timestamp {
        Timestamp::from_millis(millis)
    }

    fn limited(rate: u64) -> Throttle {
        let throttle = Throttle::default();
        throttle.set_rate(Some(rate), at(0));
        throttle
    }

    #[test]
    fn a_second_passes_together_and_then_one_at_a_time() {
        let throttle = limited(10);
        for _ in 0..10 {
            throttle.admit(at(5_000)).unwrap();
        }
        assert_eq!(throttle.admit(at(5_000)), Err(Duration::from_millis(100)));
        assert_eq!(throttle.admit(at(5_099)), Err(Duration::from_millis(1)));
        throttle.admit(at(5_100)).unwrap();
        assert!(throttle.admit(at(5_100)).is_err());
        // What was taken back may be used by another.
        throttle.take_back();
        throttle.admit(at(5_100)).unwrap();
    }

    #[test]
    fn what_is_charged_later_makes_the_next_wait() {
        let throttle = limited(1_000);
        throttle.look(at(0)).unwrap();
        throttle.charge(5_000, at(0));
        assert_eq!(throttle.look(at(0)), Err(Duration::from_secs(4)));
        assert_eq!(throttle.look(at(3_999)), Err(Duration::from_millis(1)));
        throttle.look(at(4_000)).unwrap();
        // A change of the rate forgives the debt.
        throttle.charge(1_000_000, at(4_000));
        throttle.set_rate(Some(2_000), at(4_000));
        throttle.look(at(4_000)).unwrap();
    }

    #[test]
    fn without_a_rate_everything_passes() {
        let throttle = Throttle::default();
        throttle.charge(u64::MAX, at(0));
        assert!(throttle.admit(at(0)).is_ok() && throttle.look(at(0)).is_ok());
        throttle.set_rate(Some(1), at(0));
        assert!(throttle.admit(at(0)).is_ok());
    }

    #[rstest]
    #[case(Some(1), None, true)]
    #[case(Some(0), None, false)]
    #[case(None, Some(0), false)]
    #[case(Some(MAX_PER_SECOND), Some(MAX_PER_SECOND), true)]
    #[case(None, Some(MAX_PER_SECOND + 1), false)]
    #[case(None, None, true)]
    fn rates_are_bounded(
        #[case] requests_per_second: Option<u64>,
        #[case] bytes_per_second: Option<u64>,
        #[case] valid: bool,
    ) {
        let quota = TrafficQuota { requests_per_second, bytes_per_second };
        assert_eq!(quota.check().is_ok(), valid);
    }

    proptest! {
        /// In no stretch of time passes more than the rate and one burst; and who waits as long as
        /// it was told gets through.
        #[test]
        fn no_more_passes_than_the_rate_and_a_burst(
            rate in 1u64..2_000,
            steps in prop::collection::vec(0u64..50, 1..400),
        ) {
            let throttle = limited(rate);
            let (mut now, mut passed) = (1_000, Vec::new());
            for step in steps {
                now += step;
                match throttle.admit(at(now)) {
                    Ok(()) => passed.push(now),
                    Err(wait) => {
                        prop_assert!(wait <= Duration::from_secs(1));
                        let later = at(now) + wait + Duration::from_millis(1);
                        if step == 0 {
                            prop_assert!(throttle.admit(later).is_ok());
                            now = later.as_millis();
                            passed.push(now);
                        }
                    }
                }
            }
            for (first, from) in passed.iter().enumerate() {
                for (last, to) in passed.iter().enumerate().skip(first) {
                    let most = rate as f64 * (to - from) as f64 / 1_000.0 + rate as f64;
                    prop_assert!((last - first + 1) as f64 <= most + 1.0);
                }
            }
        }
    }
}
