//! Tenants, namespaces and origins in memory, so that serving needs no MariaDB.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use verax_core::{Name, NamespaceId};
use verax_origin::Origin;
use verax_records::{OriginRecord, TenantRecord};

use crate::error::{ServiceError, Subject};
use crate::namespace::Namespace;

#[derive(Debug, Default)]
pub(crate) struct Tenant {
    pub(crate) id: u64,
    pub(crate) created_at: verax_core::Timestamp,
    pub(crate) namespaces: BTreeMap<Name, Arc<Namespace>>,
    pub(crate) origins: BTreeMap<Name, (OriginRecord, Arc<Origin>)>,
}

/// Everything that has a name.
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

    pub(crate) fn add_tenant(&self, record: &TenantRecord) {
        let tenant = Tenant { id: record.id, created_at: record.created_at, ..Default::default() };
        self.write().insert(record.name.clone(), tenant);
    }

    pub(crate) fn namespace(
        &self,
        tenant: &Name,
        name: &Name,
    ) -> Result<Arc<Namespace>, ServiceError> {
        // An unknown tenant reads like an unknown namespace of a known one.
        self.find(tenant.as_str(), name.as_str())
            .ok_or_else(|| ServiceError::Unknown(Subject::Namespace(format!("{tenant}/{name}"))))
    }

    /// A namespace by its names, if there is one.
    pub(crate) fn find(&self, tenant: &str, name: &str) -> Option<Arc<Namespace>> {
        self.read().get(tenant)?.namespaces.get(name).cloned()
    }

    pub(crate) fn origin(&self, tenant: &Name, name: &Name) -> Option<Arc<Origin>> {
        let tenants = self.read();
        Some(Arc::clone(&tenants.get(tenant)?.origins.get(name)?.1))
    }

    /// All namespaces, by tenant and name.
    pub(crate) fn namespaces(&self) -> Vec<Arc<Namespace>> {
        let tenants = self.read();
        let mut all: Vec<_> =
            tenants.values().flat_map(|t| t.namespaces.values().cloned()).collect();
        all.sort_by(|a, b| (a.tenant(), a.name()).cmp(&(b.tenant(), b.name())));
        all
    }

    /// A namespace by identity.
    pub(crate) fn by_id(&self, id: NamespaceId) -> Option<Arc<Namespace>> {
        let tenants = self.read();
        tenants.values().flat_map(|t| t.namespaces.values()).find(|n| n.id() == id).cloned()
    }
}
