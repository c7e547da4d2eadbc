//! The state machine of a circuit breaker.
//!
//! Closed, it lets every call through and counts consecutive failures. At the threshold it opens
//! and refuses calls. Failures that the request itself may have caused count for at most half of
//! the threshold, so that one bad key does not block all others. Then it is half open and lets one
//! probe through: success closes it, failure opens it for twice as long.

use std::time::Duration;

use crate::time::Timestamp;

/// The longest time that it stays open, unless its rule begins with a longer one.
pub const MAX_PAUSE: Duration = Duration::from_secs(10);

/// What a breaker does at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BreakerState {
    /// Every call goes through.
    Closed,
    /// No call goes through for this much longer.
    Open(Duration),
    /// One call goes through, as a probe.
    HalfOpen,
}

/// When a breaker opens, and for how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BreakerRule {
    /// The number of consecutive failures that opens it.
    pub failures: u32,
    /// How long it stays open the first time.
    pub pause: Duration,
}

/// A circuit breaker.
#[derive(Debug, Clone)]
pub struct Breaker {
    rule: BreakerRule,
    failures: u32,
    /// How many of them come from each source that may have caused them.
    by_source: Vec<(u64, u32)>,
    pause: Duration,
    /// Refuses until then; `None` while it is closed.
    open_until: Option<Timestamp>,
    /// When the probe must have ended.
    trying_until: Option<Timestamp>,
}

impl Breaker {
    /// A closed breaker.
    pub fn new(rule: BreakerRule) -> Self {
        let (failures, pause) = (0, Duration::ZERO);
        let by_source = Vec::new();
        Self { rule, failures, by_source, pause, open_until: None, trying_until: None }
    }

    /// Whether a call may go through at `now`. A probe keeps other calls out until it ends, or for
    /// as long as the breaker was open.
    ///
    /// # Errors
    /// The time after which to try again.
    pub fn admit(&mut self, now: Timestamp) -> Result<(), Duration> {
        let Some(until) = self.open_until else { return Ok(()) };
        if now < until {
            return Err(until.since(now));
        }
        match self.trying_until {
            Some(trying) if now < trying => Err(trying.since(now)),
            _ => {
                self.trying_until = Some(now + self.pause);
                Ok(())
            }
        }
    }

    /// A call succeeded.
    pub fn succeeded(&mut self) {
        *self = Self::new(self.rule);
    }

    /// A call failed. A call that began before the breaker opened has no effect. `draw`, a random
    /// number from 0 to 1, shortens the open time by up to half, so that refused callers do not
    /// return together; 1 keeps it whole.
    pub fn failed(&mut self, now: Timestamp, draw: f64) {
        match self.open_until {
            None => {
                self.failures += 1;
                if self.failures >= self.rule.failures {
                    self.open(now, draw);
                }
            }
            Some(_) if self.trying_until.take().is_some() => self.open(now, draw),
            Some(_) => {}
        }
    }

    /// [`failed`](Self::failed) for a failure that the request may have caused; `source` identifies
    /// the request.
    pub fn failed_for(&mut self, source: u64, now: Timestamp, draw: f64) {
        if self.open_until.is_none() {
            let most = self.rule.failures.div_ceil(2);
            let known = self.by_source.iter_mut().find(|(known, _)| *known == source);
            match known {
                Some((_, failures)) if *failures >= most => return,
                Some((_, failures)) => *failures += 1,
                // Each of them is a failure, of which there are few before it opens.
                None => self.by_source.push((source, 1)),
            }
        }
        self.failed(now, draw);
    }

    fn open(&mut self, now: Timestamp, draw: f64) {
        self.pause = (self.pause * 2).clamp(self.rule.pause, MAX_PAUSE.max(self.rule.pause));
        let spread = self.pause.mul_f64(0.5 + draw.clamp(0.0, 1.0) / 2.0);
        (self.open_until, self.trying_until) = (Some(now + spread), None);
    }

    /// What it does at `now`.
    pub fn state(&self, now: Timestamp) -> BreakerState {
        match self.open_until {
            None => BreakerState::Closed,
            Some(until) if now < until => BreakerState::Open(until.since(now)),
            Some(_) => BreakerState::HalfOpen,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const MIN_PAUSE: Duration = Duration::from_millis(500);
    const FAILURES: u32 = 5;
    const RULE: BreakerRule = BreakerRule { failures: FAILURES, pause: MIN_PAUSE };

    fn at(millis: u64) -> Timestamp {
        Timestamp::from_millis(millis)
    }

    #[test]
    fn one_caller_alone_never_opens_the_circuit_and_several_do() {
        let mut breaker = Breaker::new(RULE);
        (0..100).for_each(|_| breaker.failed_for(1, at(0), 1.0));
        assert_eq!(breaker.state(at(0)), BreakerState::Closed);
        breaker.failed_for(2, at(0), 1.0);
        assert_eq!(breaker.state(at(0)), BreakerState::Closed, "four of five");
        breaker.failed_for(2, at(0), 1.0);
        assert!(matches!(breaker.state(at(0)), BreakerState::Open(_)));
        // A failure that is certainly the server's counts in full, and a success resets the count.
        breaker.succeeded();
        (0..4).for_each(|_| breaker.failed(at(0), 1.0));
        breaker.succeeded();
        (0..3).for_each(|_| breaker.failed_for(1, at(0), 1.0));
        assert_eq!(breaker.state(at(0)), BreakerState::Closed);
        (0..2).for_each(|_| breaker.failed(at(0), 1.0));
        assert!(matches!(breaker.state(at(0)), BreakerState::Open(_)));
    }

    #[test]
    fn the_circuit_opens_probes_once_and_closes() {
        let mut breaker = Breaker::new(RULE);
        for _ in 0..FAILURES {
            assert_eq!(breaker.admit(at(0)), Ok(()));
            breaker.failed(at(0), 1.0);
        }
        assert_eq!(breaker.state(at(0)), BreakerState::Open(MIN_PAUSE));
        assert_eq!(breaker.admit(at(100)), Err(MIN_PAUSE - Duration::from_millis(100)));
        assert_eq!(breaker.state(at(500)), BreakerState::HalfOpen);
        assert_eq!(breaker.admit(at(500)), Ok(()));
        assert!(breaker.admit(at(500)).is_err(), "one call sees");
        breaker.failed(at(600), 1.0);
        assert_eq!(breaker.state(at(600)), BreakerState::Open(2 * MIN_PAUSE));
        // A call that never ends does not keep it half open forever.
        assert_eq!(breaker.admit(at(1_600)), Ok(()));
        assert!(breaker.admit(at(2_599)).is_err());
        assert_eq!(breaker.admit(at(2_600)), Ok(()));
        breaker.succeeded();
        assert_eq!(
            (breaker.state(at(2_600)), breaker.admit(at(2_600))),
            (BreakerState::Closed, Ok(()))
        );
    }

    proptest! {
        /// Whatever happens: it never stays open longer than the maximum, it opens only after
        /// failures, and while it is open at most one call goes through each time.
        #[test]
        fn open_times_are_bounded(steps in prop::collection::vec((0u64..400, 0u8..3, 0.0..1.0f64), 1..200)) {
            let mut breaker = Breaker::new(RULE);
            let (mut now, mut failed) = (0, 0u32);
            for (pass, step, draw) in steps {
                now += pass;
                match step {
                    0 => { breaker.succeeded(); failed = 0; }
                    1 => { breaker.failed(at(now), draw); failed += 1; }
                    _ => {
                        let closed = breaker.state(at(now)) == BreakerState::Closed;
                        let admitted = breaker.admit(at(now));
                        prop_assert!(!closed || admitted.is_ok());
                        if let Err(again) = admitted {
                            prop_assert!(failed >= FAILURES && again <= MAX_PAUSE);
                            prop_assert!(!again.is_zero());
                        } else if !closed {
                            prop_assert!(breaker.admit(at(now)).is_err(), "one call for each pause");
                        }
                    }
                }
                if let BreakerState::Open(left) = breaker.state(at(now)) {
                    prop_assert!(left <= MAX_PAUSE);
                }
            }
        }
    }
}
