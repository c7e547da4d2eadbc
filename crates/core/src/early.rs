//! Early refresh: a caller refills an entry before it expires, with a probability that grows as the
//! end approaches and with the time that a refill takes. Hot entries are renewed without any caller
//! waiting.
//!
//! The rule is that of A. Vattani, F. Chierichetti and K. Lowenstein, "Optimal Probabilistic Cache
//! Stampede Prevention", Proceedings of the VLDB Endowment 8(8), 2015: refresh when `took × factor
//! × −ln(draw)` is no less than the time left, where `draw` is uniform between 0 and 1. It needs no
//! coordination: each caller decides for itself, and on average one of them refreshes in time.

use std::time::Duration;

/// The published rule: a factor of 1.
pub const AS_PUBLISHED: u16 = 100;

/// The largest factor, in percent.
pub const MAX_FACTOR: u16 = 1_000;

/// Beyond this many times the refill time, no draw of 53 bits makes a refresh due.
const FARTHEST: f64 = 37.0;

/// Whether an entry that stays fresh for `left`, and whose refill took `took`, is due for an early
/// refresh. `factor` is in percent: [`AS_PUBLISHED`] is the default, 0 disables early refresh,
/// larger factors refresh earlier. `draw` returns a number from 0 to 1 and is called only when the
/// answer depends on it.
///
/// ```
/// use std::time::Duration;
/// use verax_core::early::{AS_PUBLISHED, is_due};
///
/// let (took, left) = (Duration::from_millis(200), Duration::from_millis(300));
/// assert!(is_due(took, left, AS_PUBLISHED, || 0.2), "200 ms × −ln 0.2 is 322 ms");
/// assert!(!is_due(took, left, AS_PUBLISHED, || 0.3), "200 ms × −ln 0.3 is 241 ms");
/// ```
pub fn is_due(took: Duration, left: Duration, factor: u16, draw: impl FnOnce() -> f64) -> bool {
    let reach = took.as_secs_f64() * f64::from(factor) / 100.0;
    if reach <= 0.0 || left.as_secs_f64() > reach * FARTHEST {
        return false;
    }
    reach * -draw().clamp(f64::MIN_POSITIVE, 1.0).ln() >= left.as_secs_f64()
}

/// How long a refill took, in one byte: none, or one of 255 steps of six percent each, from a
/// millisecond to 39 minutes. It fits into an entry's header and costs no memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct RefillTime(u8);

/// Steps for each doubling.
const STEPS: f64 = 12.0;

impl RefillTime {
    pub(crate) fn of(took: Duration) -> Self {
        if took.is_zero() {
            return Self(0);
        }
        let step = (took.as_secs_f64() * 1_000.0).max(1.0).log2() * STEPS;
        // Within 0 to 254 by the clamp.
        Self(1 + step.round().clamp(0.0, 254.0) as u8)
    }

    pub(crate) fn from_number(number: u8) -> Self {
        Self(number)
    }

    pub(crate) fn number(self) -> u8 {
        self.0
    }

    pub(crate) fn took(self) -> Duration {
        match self.0 {
            0 => Duration::ZERO,
            step => Duration::from_secs_f64(0.001 * (f64::from(step - 1) / STEPS).exp2()),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const MS: fn(u64) -> Duration = Duration::from_millis;

    #[test]
    fn without_a_refill_time_or_a_factor_no_entry_is_due_early() {
        let asked = || unreachable!("no draw is needed");
        assert!(!is_due(Duration::ZERO, MS(1), AS_PUBLISHED, asked));
        assert!(!is_due(MS(100), MS(1), 0, asked));
        assert!(!is_due(MS(100), MS(3_701), AS_PUBLISHED, asked), "far from its end");
    }

    /// With a look-up each millisecond and refills of 100 ms, half of the entries are refreshed
    /// before 100 ms × ln(100 / ln 2) are left, as follows from the rule, and none is left to end.
    #[test]
    fn hot_entries_are_refreshed_a_few_refill_times_before_their_end() {
        use rand::{RngExt, SeedableRng};
        let mut draws = rand_chacha::ChaCha8Rng::seed_from_u64(2015);
        let (took, mut early, mut ended) = (MS(100), Vec::new(), 0);
        for _ in 0..1_000 {
            let due = (0..4_000)
                .rev()
                .find(|left| is_due(took, MS(*left), AS_PUBLISHED, || draws.random()));
            match due {
                Some(left) => early.push(left),
                None => ended += 1,
            }
        }
        early.sort_unstable();
        let median = early[early.len() / 2];
        assert!((470..=530).contains(&median), "{median} ms early");
        assert_eq!(ended, 0);
    }

    proptest! {
        #[test]
        fn a_stored_refill_time_is_within_three_percent(millis in 1u64..2_300_000) {
            let kept = RefillTime::from_number(RefillTime::of(MS(millis)).number()).took();
            let ratio = kept.as_secs_f64() / MS(millis).as_secs_f64();
            prop_assert!((0.97..=1.03).contains(&ratio), "{ratio}");
        }

        #[test]
        fn early_refresh_grows_likelier_toward_the_end(took in 1u64..10_000, left in 0u64..20_000, nearer in 0u64..20_000, draw in 0.0..1.0f64) {
            let due = |left| is_due(MS(took), MS(left), AS_PUBLISHED, || draw);
            prop_assert!(!due(left) || due(left.min(nearer)));
        }
    }
}
