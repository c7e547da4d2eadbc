//! How many reads of an origin may be retried.
//!
//! Retries help against a single failure and harm in an outage, where they multiply the load. A
//! budget allows retries in proportion to the reads: each read earns a fraction of a retry, each
//! retry costs a whole one, and the balance is capped.

/// The largest balance, in retries.
const MAX_SAVED: u32 = 10;

/// Hundredths of one retry.
const ONE: u32 = 100;

/// The budget of one origin.
///
/// ```
/// use verax_core::guard::retry_budget::RetryBudget;
///
/// let mut budget = RetryBudget::new(10);
/// for _ in 0..10 {
///     assert!(budget.take(), "ten are there from the start");
/// }
/// assert!(!budget.take());
/// (0..10).for_each(|_| budget.earn());
/// assert!(budget.take(), "ten reads earn one retry");
/// ```
#[derive(Debug, Clone)]
pub struct RetryBudget {
    percent: u32,
    saved: u32,
}

impl RetryBudget {
    /// A budget of `percent` retries for a hundred reads; none at all with 0.
    pub fn new(percent: u8) -> Self {
        let saved = if percent == 0 { 0 } else { MAX_SAVED * ONE };
        Self { percent: percent.into(), saved }
    }

    /// A read was begun.
    pub fn earn(&mut self) {
        self.saved = (self.saved + self.percent).min(MAX_SAVED * ONE);
    }

    /// Takes a retry, if there is one.
    pub fn take(&mut self) -> bool {
        let enough = self.saved >= ONE;
        if enough {
            self.saved -= ONE;
        }
        enough
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn retries_never_exceed_their_budget(percent in 0u8..=100, reads in prop::collection::vec(any::<bool>(), 0..500)) {
            let mut budget = RetryBudget::new(percent);
            let (mut earned, mut taken) = (0u32, 0u32);
            for wants in reads {
                budget.earn();
                earned += u32::from(percent);
                taken += u32::from(wants && budget.take());
                prop_assert!(taken * ONE <= earned + MAX_SAVED * ONE);
                prop_assert!(percent > 0 || taken == 0);
            }
        }
    }
}
