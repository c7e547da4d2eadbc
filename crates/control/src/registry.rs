//! Tenants, namespaces and origins in memory, so that serving needs no MariaDB.

use std::collections::{BTreeMap, HashMap};
use std::ops::Deref;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use verax_core::{Name, TenantQuota};
use verax_engine::{Namespace, TenantShare};
use verax_observe::Statistics;
use verax_origin::Origin;
use verax_records::{NamespaceRecord, OriginRecord, TenantRecord};

use crate::error::ControlError;
use crate::subject::Subject;

/// A namespace with its record and statistics.
#[derive(Debug)]
pub struct Registered {
    /// Its policy is the one it was loaded with.
    record: NamespaceRecord,
    namespace: Arc<Namespace>,
    statistics: Arc<Statistics>,
}

impl Registered {
    pub(crate) fn new(
        record: NamespaceRecord,
        namespace: Arc<Namespace>,
        statistics: Arc<Statistics>,
    ) -> Self {
        Self { record, namespace, statistics }
    }

    pub(crate) fn record(&self) -> &NamespaceRecord {
        &self.record
    }

    pub(crate) fn namespace(&self) -> &Arc<Namespace> {
        &self.namespace
    }

    /// Its statistics.
    pub fn statistics(&self) -> &Arc<Statistics> {
        &self.statistics
    }
}

impl Deref for Registered {
    type Target = Namespace;

    fn deref(&self) -> &Namespace {
        &self.namespace
    }
}

#[derive(Debug)]
pub(crate) struct Tenant {
    pub(crate) id: u64,
    pub(crate) created_at: verax_core::Timestamp,
    pub(crate) quota: TenantQuota,
    /// What its namespaces share.
    pub(crate) share: Arc<TenantShare>,
    pub(crate) namespaces: BTreeMap<Name, Arc<Registered>>,
    pub(crate) origins: BTreeMap<Name, (OriginRecord, Arc<Origin>)>,
}

/// The tenants, namespaces and origins by name.
#[derive(Debug, Default)]
pub(crate) struct Registry {
    tenants: RwLock<HashMap<Name, Tenant>>,
}

impl Registry {
    pub(crate) fn read(&self) -> RwLockReadGuard<'_, HashMap<Name, Tenant>> {
        self.tenants.read().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn write(&self) -> RwLockWriteGuard<'_, HashMap<Name, Tenant>> {
        self.tenants.write().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn add_tenant(&self, record: &TenantRecord, share: Arc<TenantShare>) {
        let tenant = Tenant {
            id: record.id,
            created_at: record.created_at,
            quota: record.quota,
            share,
            namespaces: BTreeMap::new(),
            origins: BTreeMap::new(),
        };
        self.write().insert(record.name.clone(), tenant);
    }

    pub(crate) fn namespace(
        &self,
        tenant: &Name,
        name: &Name,
    ) -> Result<Arc<Registered>, ControlError> {
        // An unknown tenant is reported like an unknown namespace of a known one.
        self.find(tenant.as_str(), name.as_str())
            .ok_or_else(|| ControlError::Unknown(Subject::Namespace(format!("{tenant}/{name}"))))
    }

    /// A namespace by tenant and name, if it exists.
    pub(crate) fn find(&self, tenant: &str, name: &str) -> Option<Arc<Registered>> {
        self.read().get(tenant)?.namespaces.get(name).cloned()
    }

    pub(crate) fn origin(&self, tenant: &Name, name: &Name) -> Option<Arc<Origin>> {
        let tenants = self.read();
        Some(Arc::clone(&tenants.get(tenant)?.origins.get(name)?.1))
    }

    /// All namespaces, with the identifiers of their tenants.
    pub(crate) fn namespaces_with_tenants(&self) -> Vec<(Arc<Registered>, u64)> {
        let tenants = self.read();
        let of = |tenant: &Tenant| {
            let id = tenant.id;
            tenant.namespaces.values().map(|n| (Arc::clone(n), id)).collect::<Vec<_>>()
        };
        tenants.values().flat_map(of).collect()
    }

    /// All namespaces, by tenant and name.
    pub(crate) fn namespaces(&self) -> Vec<Arc<Registered>> {
        let tenants = self.read();
        let mut all: Vec<_> =
            tenants.values().flat_map(|t| t.namespaces.values().cloned()).collect();
        all.sort_by(|a, b| (a.tenant(), a.name()).cmp(&(b.tenant(), b.name())));
        all
    }
}
