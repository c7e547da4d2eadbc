//! Connection limits: in total and for each address, with a reserve for authenticated connections.
//!
//! A connection begins unauthenticated. At the limit, the oldest unauthenticated connection is
//! closed for the newcomer, so idle connections keep nobody out. A client with a token
//! authenticates with its first request and is never closed for others from then on.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::Notify;
use verax_engine::{EngineError, TenantConnection, TenantShare};

/// The connection limits of one listener.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ConnectionLimits {
    /// In all.
    pub connections: usize,
    /// From one address, which the clients of a proxy share.
    pub per_address: usize,
}

impl Default for ConnectionLimits {
    fn default() -> Self {
        Self { connections: 10_000, per_address: 5_000 }
    }
}

impl ConnectionLimits {
    /// The maximum number of unauthenticated connections: nine tenths of the total.
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

/// The connection slots of one listener.
#[derive(Debug)]
pub(crate) struct Connections {
    limits: ConnectionLimits,
    state: Mutex<State>,
}

/// Why a connection gets no slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NoSlot {
    /// Authenticated connections hold every slot.
    Full,
    /// The address is at its limit.
    Address,
}

impl Connections {
    pub(crate) fn new(limits: ConnectionLimits) -> Arc<Self> {
        Arc::new(Self { limits, state: Mutex::default() })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Acquires a slot for a new connection.
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
        let (of, tenant) = (Arc::clone(self), OnceLock::new());
        Ok(Arc::new(ConnectionSlot { of, id, address, closed, authenticated, tenant }))
    }
}

/// The slot of one connection, held until dropped.
#[derive(Debug)]
pub(crate) struct ConnectionSlot {
    of: Arc<Connections>,
    id: u64,
    address: IpAddr,
    closed: Arc<Notify>,
    authenticated: AtomicBool,
    tenant: OnceLock<TenantConnection>,
}

impl ConnectionSlot {
    /// Counts the connection for the first tenant that uses it.
    ///
    /// # Errors
    /// [`EngineError::QuotaExceeded`] when that tenant has as many as it may.
    pub(crate) fn count_for(&self, tenant: &Arc<TenantShare>) -> Result<(), EngineError> {
        if self.tenant.get().is_none() {
            let _ = self.tenant.set(tenant.connect()?);
        }
        Ok(())
    }

    /// Marks the connection as authenticated: it is no longer closed for others.
    pub(crate) fn set_authenticated(&self) {
        if self.authenticated.load(Ordering::Relaxed) {
            return;
        }
        let mut state = self.of.state();
        // A connection that is already being closed stays so.
        if state.anonymous.remove(&self.id).is_some() {
            state.authenticated += 1;
            self.authenticated.store(true, Ordering::Relaxed);
        }
    }

    /// Waits until the connection must be closed for another.
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

/// How long accepting pauses after a failure, usually caused by too many open files.
const PAUSE: Duration = Duration::from_millis(50);

/// Logs failures to accept, at most once a second.
#[derive(Debug, Default)]
pub(crate) struct AcceptFailures {
    told_at: Option<Instant>,
    untold: u64,
}

impl AcceptFailures {
    /// Logs a failure, if it is time to, and lets some connections close before the next attempt.
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
    fn the_oldest_unauthenticated_connection_gives_way() {
        let limits = ConnectionLimits { connections: 10, per_address: 100 };
        let connections = Connections::new(limits);
        let named: Vec<_> = (0..3).map(|_| connections.admit(HERE).unwrap()).collect();
        named.iter().for_each(|place| place.set_authenticated());
        let silent: Vec<_> = (0..7).map(|_| connections.admit(HERE).unwrap()).collect();
        assert!(silent.iter().all(|place| !is_closed(place)), "ten fit");
        let newcomer = connections.admit(HERE).unwrap();
        assert!(is_closed(&silent[0]) && !is_closed(&silent[1]));
        newcomer.set_authenticated();
        // A closing connection cannot become authenticated.
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
    fn a_tenth_of_the_connections_is_reserved_for_authenticated_peers() {
        let connections = Connections::new(ConnectionLimits { connections: 10, per_address: 100 });
        let silent: Vec<_> = (0..9).map(|_| connections.admit(HERE).unwrap()).collect();
        assert!(!is_closed(&silent[0]));
        let _tenth = connections.admit(HERE).unwrap();
        assert!(is_closed(&silent[0]));
    }

    #[test]
    fn connections_of_one_address_are_bounded() {
        let connections = Connections::new(ConnectionLimits { connections: 10, per_address: 2 });
        let first = connections.admit(HERE).unwrap();
        let _second = connections.admit(HERE).unwrap();
        assert_eq!(connections.admit(HERE).unwrap_err(), NoSlot::Address);
        // The address as IPv6.
        let mapped = "::ffff:127.0.0.1".parse().unwrap();
        assert_eq!(connections.admit(mapped).unwrap_err(), NoSlot::Address);
        assert!(connections.admit("127.0.0.2".parse().unwrap()).is_ok());
        drop(first);
        assert!(connections.admit(HERE).is_ok());
    }
}
