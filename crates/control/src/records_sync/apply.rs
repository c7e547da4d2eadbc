//! Applies a snapshot of the records to memory.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use verax_core::guard::lock::AccessId;
use verax_core::{Name, NamespaceId};
use verax_engine::{Binding, NamespaceIdentity};
use verax_origin::Origin;
use verax_records::{NamespaceRecord, OriginRecord, RecordsSnapshot, TenantRecord};

use crate::control::Control;
use crate::registry::Registered;

impl Control {
    /// Applies a snapshot. Unchanged namespaces keep their entries, permits and locks.
    pub(super) fn apply(&self, snapshot: &RecordsSnapshot) {
        let kept: HashSet<NamespaceId> =
            snapshot.namespaces.iter().map(|record| record.id).collect();
        let gone: Vec<Arc<Registered>> =
            self.registry.namespaces().into_iter().filter(|n| !kept.contains(&n.id())).collect();
        for namespace in gone {
            self.forget_namespace(&namespace);
        }
        self.apply_tenants(&snapshot.tenants);
        self.forget_origins(&snapshot.origins);
        for record in &snapshot.origins {
            self.apply_origin(record);
        }
        for record in &snapshot.namespaces {
            self.apply_namespace(record);
        }
        let ended = self.tokens.replace_all(&snapshot.tokens, self.engine.now());
        self.access_changed();
        ended.into_iter().for_each(|id| self.engine.withdraw(AccessId(id)));
    }

    /// Closes a namespace: its entries, waits and leases end now.
    pub(crate) fn forget_namespace(&self, namespace: &Registered) {
        if let Some(tenant) = self.registry.write().get_mut(namespace.tenant()) {
            tenant.namespaces.retain(|_, n| n.id() != namespace.id());
        }
        self.access_changed();
        self.engine.close_namespace(namespace.namespace());
    }

    fn apply_tenants(&self, records: &[TenantRecord]) {
        let kept: HashMap<&Name, u64> = records.iter().map(|r| (&r.name, r.id)).collect();
        // One of the same name with another identifier is another tenant.
        self.registry.write().retain(|name, tenant| kept.get(name) == Some(&tenant.id));
        for record in records {
            let known = self.registry.read().get(&record.name).map(|tenant| tenant.quota);
            match known {
                None => self.add_tenant(record),
                Some(quota) if quota != record.quota => self.set_quota(&record.name, &record.quota),
                Some(_) => {}
            }
        }
    }

    fn forget_origins(&self, records: &[OriginRecord]) {
        let kept: HashSet<u64> = records.iter().map(|record| record.id).collect();
        for tenant in self.registry.write().values_mut() {
            tenant.origins.retain(|_, (record, _)| kept.contains(&record.id));
        }
    }

    fn apply_origin(&self, record: &OriginRecord) {
        let mut tenants = self.registry.write();
        let Some(tenant) = tenants.get_mut(&record.tenant) else { return };
        let known = tenant.origins.get(&record.name);
        if known.is_some_and(|(known, _)| known == record) {
            return;
        }
        // It was validated when it was created; a later version may be stricter.
        match Origin::new(&record.settings, &self.credentials) {
            Ok(origin) => {
                tenant.origins.insert(record.name.clone(), (record.clone(), Arc::new(origin)));
            }
            Err(error) => tracing::error!(
                %error, origin = %format!("{}/{}", record.tenant, record.name),
                "an origin is left out"
            ),
        }
    }

    /// Opens a namespace in the engine, with its statistics as the observer.
    pub(crate) fn register(
        &self,
        record: NamespaceRecord,
        origin: Option<Arc<Origin>>,
    ) -> Arc<Registered> {
        let statistics = self.observatory.open(record.id);
        let identity = NamespaceIdentity {
            id: record.id,
            tenant: record.tenant.clone(),
            name: record.name.clone(),
        };
        let binding = Binding { policy: record.policy.clone(), origin };
        let namespace = self.engine.open_namespace(identity, binding, statistics.clone());
        Arc::new(Registered::new(record, namespace, statistics))
    }

    fn apply_namespace(&self, record: &NamespaceRecord) {
        let mut tenants = self.registry.write();
        let Some(tenant) = tenants.get_mut(&record.tenant) else { return };
        let bound = record.policy.origin.as_ref();
        let origin = bound.and_then(|bound| tenant.origins.get(&bound.origin));
        let origin = origin.map(|(_, origin)| Arc::clone(origin));
        match tenant.namespaces.get(&record.name).filter(|known| known.id() == record.id) {
            Some(known) => {
                let binding = Binding { policy: record.policy.clone(), origin };
                self.engine.bind(known.namespace(), binding);
            }
            None => {
                let namespace = self.register(record.clone(), origin);
                tenant.namespaces.insert(record.name.clone(), namespace);
            }
        }
    }
}
