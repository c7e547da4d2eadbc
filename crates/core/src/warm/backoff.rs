//! When a failed refill is tried again.

use std::time::Duration;

/// The longest pause before a retry.
const MAX_PAUSE: Duration = Duration::from_secs(30);

/// Exponential backoff with full jitter: the pause before retry *n* is random, up to
/// `first` · 2ⁿ⁻¹ (Brooker, 2015).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Backoff {
    /// The longest first pause.
    pub first: Duration,
}

impl Backoff {
    /// The pause before retry `number`, from 1, for a `random` number of 0 to 1.
    pub fn pause(&self, number: u32, random: f64) -> Duration {
        let doubled = self.first.saturating_mul(1 << number.saturating_sub(1).min(20));
        doubled.min(MAX_PAUSE).mul_f64(random.clamp(0.0, 1.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_half_a_minute() {
        let backoff = Backoff { first: Duration::from_millis(200) };
        let longest = |number| backoff.pause(number, 1.0).as_millis();
        assert_eq!([1, 2, 3, 8, 9, 4_000].map(longest), [200, 400, 800, 25_600, 30_000, 30_000]);
        assert_eq!(backoff.pause(3, 0.0), Duration::ZERO);
        assert_eq!(backoff.pause(1, 0.5).as_millis(), 100);
    }
}
