//! The state machine of an origin with several servers: which server is called next.
//!
//! Each server has a [`Breaker`] of its own: a server that fails several times in a row is not
//! called while its circuit is open, and is then probed with one read. A slow response counts as a
//! failure only while another server is healthy, so that a uniformly slow origin stays in use.

use std::time::Duration;

use super::breaker::{Breaker, BreakerRule, BreakerState};
use crate::origin::Balance;
use crate::time::Timestamp;

/// The outcome of a read, as far as the server is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Health {
    /// It answered, whatever it said.
    Well,
    /// It answered, but too slowly.
    Slow,
    /// It did not answer, or answered that it is unavailable.
    Failed,
    /// It failed in a way that the request may have caused; the hash identifies the request.
    FailedFor(u64),
    /// The call was abandoned, which says nothing about the server.
    Unknown,
}

/// One server at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EndpointState {
    /// What its breaker does.
    pub breaker: BreakerState,
    /// Reads in flight.
    pub under_way: usize,
}

#[derive(Debug)]
struct Endpoint {
    breaker: Breaker,
    under_way: usize,
}

/// The servers of one origin, by number.
///
/// ```
/// use std::time::Duration;
/// use verax_core::Timestamp;
/// use verax_core::guard::breaker::BreakerRule;
/// use verax_core::guard::endpoints::{Endpoints, Health};
/// use verax_core::origin::Balance;
///
/// let rule = BreakerRule { failures: 1, pause: Duration::from_millis(500) };
/// let mut servers = Endpoints::new(2, rule, Balance::RoundRobin);
/// let now = Timestamp::from_millis(0);
/// assert_eq!(servers.choose(None, now), Ok(0));
/// servers.ended(0, Health::Failed, now);
/// // The first is set aside, so the second serves alone.
/// assert_eq!(servers.choose(None, now), Ok(1));
/// assert_eq!(servers.choose(None, now), Ok(1));
/// ```
#[derive(Debug)]
pub struct Endpoints {
    endpoints: Vec<Endpoint>,
    balance: Balance,
    next: usize,
}

impl Endpoints {
    /// `number` servers, at least one, all healthy at first.
    pub fn new(number: usize, rule: BreakerRule, balance: Balance) -> Self {
        let endpoint = || Endpoint { breaker: Breaker::new(rule), under_way: 0 };
        let endpoints = std::iter::repeat_with(endpoint).take(number.max(1)).collect();
        Self { endpoints, balance, next: 0 }
    }

    /// Picks the server to call at `now`; the call counts as in flight until
    /// [`ended`](Self::ended). The server `not` is picked only when no other is available.
    ///
    /// # Errors
    /// The time after which to try again, when every circuit is open.
    pub fn choose(&mut self, not: Option<usize>, now: Timestamp) -> Result<usize, Duration> {
        let number = self.endpoints.len();
        let mut order: Vec<usize> = (0..number).map(|at| (self.next + at) % number).collect();
        if self.balance == Balance::LeastOutstanding {
            // Stable, so that servers with equal counts take turns.
            order.sort_by_key(|at| self.endpoints[*at].under_way);
        }
        if let Some(last) = not.and_then(|not| order.iter().position(|at| *at == not)) {
            let not = order.remove(last);
            order.push(not);
        }
        let mut soonest = Duration::MAX;
        for at in order {
            let endpoint = &mut self.endpoints[at];
            match endpoint.breaker.admit(now) {
                Ok(()) => {
                    endpoint.under_way += 1;
                    self.next = (at + 1) % number;
                    return Ok(at);
                }
                Err(again) => soonest = soonest.min(again),
            }
        }
        Err(soonest)
    }

    /// Ends a read that [`choose`](Self::choose) began.
    pub fn ended(&mut self, at: usize, health: Health, now: Timestamp) {
        let closed = |e: &Endpoint| e.breaker.state(now) == BreakerState::Closed;
        let another = self.endpoints.iter().enumerate().any(|(of, e)| of != at && closed(e));
        let Some(endpoint) = self.endpoints.get_mut(at) else { return };
        endpoint.under_way = endpoint.under_way.saturating_sub(1);
        match health {
            Health::Well => endpoint.breaker.succeeded(),
            Health::Slow if another => endpoint.breaker.failed(now, 1.0),
            Health::Slow => endpoint.breaker.succeeded(),
            Health::Failed => endpoint.breaker.failed(now, 1.0),
            Health::FailedFor(source) => endpoint.breaker.failed_for(source, now, 1.0),
            Health::Unknown => {}
        }
    }

    /// The state of each server at `now`, by number.
    pub fn states(&self, now: Timestamp) -> impl Iterator<Item = EndpointState> {
        self.endpoints
            .iter()
            .map(move |e| EndpointState { breaker: e.breaker.state(now), under_way: e.under_way })
    }

    /// The state of all servers together: closed while any is closed, else half open while any is,
    /// else open until the first probe.
    pub fn state(&self, now: Timestamp) -> BreakerState {
        let states = || self.endpoints.iter().map(|e| e.breaker.state(now));
        if states().any(|state| state == BreakerState::Closed) {
            return BreakerState::Closed;
        }
        let left = |state| match state {
            BreakerState::Open(left) => left,
            BreakerState::Closed | BreakerState::HalfOpen => Duration::ZERO,
        };
        match states().map(left).min().unwrap_or_default() {
            Duration::ZERO => BreakerState::HalfOpen,
            left => BreakerState::Open(left),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const PAUSE: Duration = Duration::from_millis(500);
    const RULE: BreakerRule = BreakerRule { failures: 2, pause: PAUSE };

    fn at(millis: u64) -> Timestamp {
        Timestamp::from_millis(millis)
    }

    fn chosen(servers: &mut Endpoints, times: usize, now: u64) -> Vec<usize> {
        (0..times).map(|_| servers.choose(None, at(now)).unwrap()).collect()
    }

    #[test]
    fn servers_rotate() {
        let mut servers = Endpoints::new(3, RULE, Balance::RoundRobin);
        assert_eq!(chosen(&mut servers, 7, 0), [0, 1, 2, 0, 1, 2, 0]);
    }

    #[test]
    fn the_server_with_the_fewest_reads_is_picked() {
        let mut servers = Endpoints::new(3, RULE, Balance::LeastOutstanding);
        assert_eq!(chosen(&mut servers, 3, 0), [0, 1, 2]);
        servers.ended(1, Health::Well, at(1));
        assert_eq!(chosen(&mut servers, 1, 1), [1]);
        servers.ended(2, Health::Unknown, at(1));
        assert_eq!(chosen(&mut servers, 2, 1), [2, 0]);
    }

    #[test]
    fn a_failing_server_is_opened_and_retried() {
        let mut servers = Endpoints::new(2, RULE, Balance::RoundRobin);
        for _ in 0..2 {
            assert_eq!(servers.choose(Some(1), at(0)), Ok(0));
            servers.ended(0, Health::Failed, at(0));
        }
        assert_eq!(chosen(&mut servers, 2, 100), [1, 1]);
        assert_eq!(servers.state(at(100)), BreakerState::Closed);
        // One read probes it; the others stay away until the probe ends.
        assert_eq!(chosen(&mut servers, 3, 500), [0, 1, 1]);
        servers.ended(0, Health::Well, at(510));
        assert_eq!(chosen(&mut servers, 2, 510), [0, 1]);
    }

    #[rstest]
    #[case(2, BreakerState::Open(PAUSE))]
    #[case(1, BreakerState::Closed)]
    fn slowness_counts_only_while_another_server_is_healthy(
        #[case] number: usize,
        #[case] expected: BreakerState,
    ) {
        let mut servers = Endpoints::new(number, RULE, Balance::RoundRobin);
        for _ in 0..2 {
            servers.ended(0, Health::Slow, at(0));
        }
        assert_eq!(servers.states(at(0)).next().unwrap().breaker, expected);
        assert_eq!(servers.state(at(0)), BreakerState::Closed);
    }

    #[test]
    fn a_retry_prefers_another_server() {
        let mut servers = Endpoints::new(2, RULE, Balance::RoundRobin);
        assert_eq!(servers.choose(Some(0), at(0)), Ok(1));
        let mut alone = Endpoints::new(1, RULE, Balance::RoundRobin);
        assert_eq!(alone.choose(Some(0), at(0)), Ok(0));
    }

    proptest! {
        /// Whatever happens: a server with an open circuit is not called, only open circuits
        /// everywhere refuse, reads in flight are counted, and every server is called again in the
        /// end.
        #[test]
        fn open_servers_are_not_picked(
            number in 1usize..5,
            least in any::<bool>(),
            steps in prop::collection::vec((0u64..300, 0u8..6), 1..150),
        ) {
            let balance = if least { Balance::LeastOutstanding } else { Balance::RoundRobin };
            let mut servers = Endpoints::new(number, RULE, balance);
            let (mut now, mut under_way) = (0, Vec::new());
            for (pass, step) in steps {
                now += pass;
                let before: Vec<_> = servers.states(at(now)).collect();
                match step {
                    0..=2 => match servers.choose(under_way.last().copied(), at(now)) {
                        Ok(chosen) => {
                            prop_assert!(!matches!(before[chosen].breaker, BreakerState::Open(_)));
                            under_way.push(chosen);
                        }
                        Err(again) => {
                            prop_assert!(before.iter().all(|s| s.breaker != BreakerState::Closed));
                            prop_assert!(!again.is_zero());
                        }
                    },
                    step if !under_way.is_empty() => {
                        let health = [Health::Well, Health::Slow, Health::Failed][usize::from(step - 3)];
                        servers.ended(under_way.remove(0), health, at(now));
                    }
                    _ => {}
                }
                for (server, state) in servers.states(at(now)).enumerate() {
                    let own = under_way.iter().filter(|of| **of == server).count();
                    prop_assert_eq!(state.under_way, own);
                }
            }
            // Everything ends well from here on, after the longest pause.
            now += 60_000;
            under_way.drain(..).for_each(|of| servers.ended(of, Health::Unknown, at(now)));
            let mut asked = vec![false; number];
            for _ in 0..number {
                let chosen = servers.choose(None, at(now)).unwrap();
                servers.ended(chosen, Health::Well, at(now));
                asked[chosen] = true;
            }
            // With sequential reads, the server with the fewest in flight is always the same one.
            prop_assert!(least || asked.iter().all(|asked| *asked));
        }
    }
}
