//! What the namespaces of a tenant share: memory, rates, connections, values in flight, and turns
//! at the processors.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, Weak};

use verax_core::store::TenantMemory;
use verax_core::tenant_quota::TenantQuota;
use verax_core::{Name, Store, Timestamp};

use crate::error::EngineError;
use crate::in_flight::InFlightBudget;
use crate::traffic::{Limit, Traffic};
use crate::turns::{TenantTurns, Turns};

/// What the namespaces of a tenant share.
#[derive(Debug)]
pub struct TenantShare {
    name: Name,
    in_flight: InFlightBudget,
    turns: Arc<TenantTurns>,
    memory: Arc<TenantMemory>,
    traffic: Traffic,
    max_value_bytes: AtomicU64,
    max_connections: AtomicU64,
    connections: AtomicU64,
    refused: AtomicU64,
}

/// A connection of a tenant, counted until it is dropped.
#[derive(Debug)]
pub struct TenantConnection(Arc<TenantShare>);

impl TenantShare {
    /// The tenant.
    pub fn name(&self) -> &Name {
        &self.name
    }

    /// The in-flight budget of its values.
    pub fn in_flight(&self) -> &InFlightBudget {
        &self.in_flight
    }

    /// Its turns at the processors.
    pub fn turns(&self) -> &Arc<TenantTurns> {
        &self.turns
    }

    /// The memory of its entries.
    pub fn memory(&self) -> &Arc<TenantMemory> {
        &self.memory
    }

    /// The largest value that its namespaces may store, in bytes.
    pub(crate) fn max_value_bytes(&self) -> u64 {
        self.max_value_bytes.load(Ordering::Relaxed)
    }

    /// How many connections it has.
    pub fn connections(&self) -> u64 {
        self.connections.load(Ordering::Relaxed)
    }

    /// How many requests and connections its quotas have refused, since the service started.
    pub fn refused(&self) -> u64 {
        self.refused.load(Ordering::Relaxed)
    }

    pub(crate) fn traffic(&self) -> &Traffic {
        &self.traffic
    }

    /// Counts a refusal.
    pub(crate) fn note_refused(&self) {
        self.refused.fetch_add(1, Ordering::Relaxed);
    }

    /// Sets its quota. It applies to everything that begins after it; entries above it go bit by
    /// bit, and connections stay.
    pub fn set_quota(&self, quota: &TenantQuota, now: Timestamp) {
        self.memory.set_quota(quota.memory);
        self.traffic.set(quota.traffic, now);
        let or_any = |limit: Option<u64>| limit.unwrap_or(u64::MAX);
        self.max_value_bytes.store(or_any(quota.max_value_bytes), Ordering::Relaxed);
        self.max_connections.store(or_any(quota.connections), Ordering::Relaxed);
    }

    /// Counts a connection of the tenant.
    ///
    /// # Errors
    /// [`EngineError::QuotaExceeded`] when it has as many as it may.
    pub fn connect(self: &Arc<Self>) -> Result<TenantConnection, EngineError> {
        let most = self.max_connections.load(Ordering::Relaxed);
        let one_more = |count: u64| (count < most).then_some(count + 1);
        let counted = self.connections.fetch_update(Ordering::Relaxed, Ordering::Relaxed, one_more);
        match counted {
            Ok(_) => Ok(TenantConnection(Arc::clone(self))),
            Err(_) => {
                self.note_refused();
                Err(EngineError::QuotaExceeded {
                    of: format!("tenant {}", self.name),
                    limit: Limit::Connections(most),
                    retry_after: None,
                })
            }
        }
    }
}

impl TenantConnection {
    /// The tenant it counts for.
    pub fn tenant(&self) -> &Name {
        &self.0.name
    }
}

impl Drop for TenantConnection {
    fn drop(&mut self) {
        self.0.connections.fetch_sub(1, Ordering::Relaxed);
    }
}

/// The tenants that are in use.
#[derive(Debug)]
pub(crate) struct Tenants {
    turns: Arc<Turns>,
    by_name: Mutex<HashMap<Name, Weak<TenantShare>>>,
}

impl Tenants {
    pub(crate) fn new(processors: usize) -> Self {
        Self { turns: Turns::new(processors), by_name: Mutex::default() }
    }

    /// What a tenant's namespaces share; kept as long as somebody holds it.
    pub(crate) fn of(
        &self,
        name: &Name,
        store: &Store,
        in_flight: &InFlightBudget,
    ) -> Arc<TenantShare> {
        let mut by_name = self.by_name.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(share) = by_name.get(name).and_then(Weak::upgrade) {
            return share;
        }
        // Tenants that nobody uses are forgotten from time to time.
        if by_name.len() == by_name.capacity() {
            by_name.retain(|_, share| share.strong_count() > 0);
        }
        let quota = TenantQuota::default();
        let share = Arc::new(TenantShare {
            name: name.clone(),
            // Half of it, so that no tenant keeps others from transferring values.
            in_flight: in_flight.share(in_flight.limit() / 2),
            turns: self.turns.of(name),
            memory: store.tenant(quota.memory),
            traffic: Traffic::default(),
            max_value_bytes: AtomicU64::new(u64::MAX),
            max_connections: AtomicU64::new(u64::MAX),
            connections: AtomicU64::new(0),
            refused: AtomicU64::new(0),
        });
        by_name.insert(name.clone(), Arc::downgrade(&share));
        share
    }
}
