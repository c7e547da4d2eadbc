//! The places that connections take: a bound in all and for each address, with a reserve for those
//! who have signed in.
//!
//! A connection begins without a name. When places run out, the one that has been so for longest is
//! closed for the newcomer, so whoever opens connections and says nothing keeps nobody out: a
//! client with a token signs in with its first request, and is not closed for others from then on.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::Notify;

/// How many connections there may be, on HTTP and on the wire each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ConnectionLimits {
    /// In all.
    pub connections: usize,
    /// From one address. Proxies share one.
    pub per_address: usize,
}

impl Default for ConnectionLimits {
    fn default() -> Self {
        Self { connections: 10_000, per_address: 5_000 }
    }
}

impl ConnectionLimits {
    /// How many may be open that have not signed in: nine of ten.
    fn anonymous(&self) -> usize {
        (self.connections - self.connections / 10).max(1)
    }
}

#[derive(Debug, Default)]
struct State {
    last_id: u64,
    anonymous: BTreeMap<u64, Arc<Notify>>,
    authenticated: usize,
    by_address: HashMap<IpAddr, usize>,
}

/// All places of one listener.
#[derive(Debug)]
pub(crate) struct Connections {
    limits: ConnectionLimits,
    state: Mutex<State>,
}

/// Why there is no place for a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NoSlot {
    /// All are taken by connections that have signed in.
    Full,
    /// The address has as many as one may have.
    Address,
}

impl Connections {
    pub(crate) fn new(limits: ConnectionLimits) -> Arc<Self> {
        Arc::new(Self { limits, state: Mutex::default() })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes a place for a new connection.
    pub(crate) fn admit(self: &Arc<Self>, address: IpAddr) -> Result<Arc<ConnectionSlot>, NoSlot> {
        let address = address.to_canonical();
        let mut state = self.state();
        if state.by_address.get(&address).copied().unwrap_or(0) >= self.limits.per_address {
            return Err(NoSlot::Address);
        }
        let anonymous = state.anonymous.len();
        let full = anonymous + state.authenticated >= self.limits.connections;
        if full || anonymous >= self.limits.anonymous() {
            let (_, oldest) = state.anonymous.pop_first().ok_or(NoSlot::Full)?;
            oldest.notify_one();
        }
        state.last_id += 1;
        let (id, closed) = (state.last_id, Arc::new(Notify::new()));
        state.anonymous.insert(id, Arc::clone(&closed));
        *state.by_address.entry(address).or_default() += 1;
        let authenticated = AtomicBool::new(false);
        Ok(Arc::new(ConnectionSlot { of: Arc::clone(self), id, address, closed, authenticated }))
    }
}

/// The place of one connection, until it is dropped.
#[derive(Debug)]
pub(crate) struct ConnectionSlot {
    of: Arc<Connections>,
    id: u64,
    address: IpAddr,
    closed: Arc<Notify>,
    authenticated: AtomicBool,
}

impl ConnectionSlot {
    /// The connection has shown a valid token or session: it is not closed for others any more.
    pub(crate) fn set_authenticated(&self) {
        if self.authenticated.load(Ordering::Relaxed) {
            return;
        }
        let mut state = self.of.state();
        // One that is being closed for another stays so.
        if state.anonymous.remove(&self.id).is_some() {
            state.authenticated += 1;
            self.authenticated.store(true, Ordering::Relaxed);
        }
    }

    /// Waits until the connection is to be closed for another.
    pub(crate) async fn closed(&self) {
        self.closed.notified().await;
    }
}

impl Drop for ConnectionSlot {
    fn drop(&mut self) {
        let mut state = self.of.state();
        match *self.authenticated.get_mut() {
            true => state.authenticated -= 1,
            false => drop(state.anonymous.remove(&self.id)),
        }
        if let Some(count) = state.by_address.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                state.by_address.remove(&self.address);
            }
        }
    }
}

/// How long accepting pauses after a failure: usually there are too many open files.
const PAUSE: Duration = Duration::from_millis(50);

/// Failures to accept, told at most once a second.
#[derive(Debug, Default)]
pub(crate) struct AcceptFailures {
    told_at: Option<Instant>,
    untold: u64,
}

impl AcceptFailures {
    /// Tells of a failure, if it is time to, and lets some connections close before the next
    /// attempt.
    pub(crate) async fn pause(&mut self, error: &std::io::Error) {
        self.untold += 1;
        if self.told_at.is_none_or(|at| at.elapsed() >= Duration::from_secs(1)) {
            tracing::warn!(%error, failures = self.untold, "connections cannot be accepted");
            (self.told_at, self.untold) = (Some(Instant::now()), 0);
        }
        tokio::time::sleep(PAUSE).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HERE: IpAddr = IpAddr::V4(std::net::Ipv4Addr::LOCALHOST);

    fn is_closed(place: &ConnectionSlot) -> bool {
        use futures_util::FutureExt;
        place.closed().now_or_never().is_some()
    }

    #[test]
    fn the_oldest_without_a_name_gives_way_and_those_with_one_stay() {
        let limits = ConnectionLimits { connections: 10, per_address: 100 };
        let connections = Connections::new(limits);
        let named: Vec<_> = (0..3).map(|_| connections.admit(HERE).unwrap()).collect();
        named.iter().for_each(|place| place.set_authenticated());
        let silent: Vec<_> = (0..7).map(|_| connections.admit(HERE).unwrap()).collect();
        assert!(silent.iter().all(|place| !is_closed(place)), "ten fit");
        let newcomer = connections.admit(HERE).unwrap();
        assert!(is_closed(&silent[0]) && !is_closed(&silent[1]));
        newcomer.set_authenticated();
        // One that is closing does not become one with a name.
        silent[0].set_authenticated();
        let more: Vec<_> = (0..6).map(|_| connections.admit(HERE).unwrap()).collect();
        more.iter().for_each(|place| place.set_authenticated());
        assert!(silent[1..].iter().all(|place| is_closed(place)));
        assert_eq!(connections.admit(HERE).unwrap_err(), NoSlot::Full);
        assert!(named.iter().all(|place| !is_closed(place)));
        drop(named);
        assert!(connections.admit(HERE).is_ok());
    }

    #[test]
    fn a_tenth_of_the_places_is_for_those_who_have_signed_in() {
        let connections = Connections::new(ConnectionLimits { connections: 10, per_address: 100 });
        let silent: Vec<_> = (0..9).map(|_| connections.admit(HERE).unwrap()).collect();
        assert!(!is_closed(&silent[0]));
        let _tenth = connections.admit(HERE).unwrap();
        assert!(is_closed(&silent[0]));
    }

    #[test]
    fn one_address_has_its_share_and_no_more() {
        let connections = Connections::new(ConnectionLimits { connections: 10, per_address: 2 });
        let first = connections.admit(HERE).unwrap();
        let _second = connections.admit(HERE).unwrap();
        assert_eq!(connections.admit(HERE).unwrap_err(), NoSlot::Address);
        // The same address, written as IPv6.
        let mapped = "::ffff:127.0.0.1".parse().unwrap();
        assert_eq!(connections.admit(mapped).unwrap_err(), NoSlot::Address);
        assert!(connections.admit("127.0.0.2".parse().unwrap()).is_ok());
        drop(first);
        assert!(connections.admit(HERE).is_ok());
    }
}
