//! Tenants, namespaces and origins in memory.

use serde_json::json;
use verax_core::{Name, NamespacePolicy, OriginSettings, TenantQuota, Timestamp};

use super::{Memory, State};
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::model::{
    Actor, NamespaceRecord, ORIGIN_USED_BY, OriginRecord, TENANT_USED_BY, TenantRecord, difference,
    namespace_change, new_namespace_id, origin_change, policy_detail, quota_change,
    settings_detail, tenant_change,
};

impl State {
    /// Checks that a policy's origin exists.
    fn check_policy(&self, tenant: &Name, policy: &NamespacePolicy) -> Result<(), RecordsError> {
        let Some(binding) = &policy.origin else { return Ok(()) };
        let mut origins = self.origins.iter();
        match origins.any(|origin| origin.tenant == *tenant && origin.name == binding.origin) {
            true => Ok(()),
            false => Err(RecordsError::Missing(format!("origin {tenant}/{}", binding.origin))),
        }
    }
}

impl Memory {
    pub(crate) fn tenants(&self) -> Vec<TenantRecord> {
        self.state().tenants.clone()
    }

    pub(crate) fn create_tenant(
        &self,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<TenantRecord>, RecordsError> {
        self.change(actor, now, |state| {
            let at = state.tenants.binary_search_by(|tenant| tenant.name.cmp(name));
            let Err(at) = at else { return Err(RecordsError::Exists(format!("tenant {name}"))) };
            state.used.tenant += 1;
            let id = state.used.tenant;
            let quota = TenantQuota::default();
            let record = TenantRecord { id, name: name.clone(), created_at: now, quota };
            state.tenants.insert(at, record.clone());
            Ok((record, tenant_change("tenant.create", name)))
        })
    }

    pub(crate) fn change_quota(
        &self,
        name: &Name,
        (before, quota): (&TenantQuota, &TenantQuota),
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, |state| {
            let found = state.tenants.iter_mut().find(|tenant| tenant.name == *name);
            let missing = || RecordsError::Missing(format!("tenant {name}"));
            found.ok_or_else(missing)?.quota = *quota;
            Ok(((), quota_change(name, before, quota)))
        })
    }

    pub(crate) fn delete_tenant(
        &self,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, |state| {
            let subject = format!("tenant {name}");
            let id = state.needed_tenant_id(name)?;
            let owns = state.namespaces.iter().any(|namespace| namespace.tenant == *name)
                || state.origins.iter().any(|origin| origin.tenant == *name);
            if owns {
                return Err(RecordsError::InUse { subject, by: TENANT_USED_BY });
            }
            state.definitions.forget_tenant(id);
            state.tenants.retain(|tenant| tenant.name != *name);
            state.withdraw_scopes(name.as_str(), now);
            Ok(((), tenant_change("tenant.delete", name)))
        })
    }

    pub(crate) fn origins(&self) -> Vec<OriginRecord> {
        self.state().origins.clone()
    }

    pub(crate) fn create_origin(
        &self,
        (tenant, name): (&Name, &Name),
        settings: &OriginSettings,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<OriginRecord>, RecordsError> {
        self.change(actor, now, |state| {
            state.needed_tenant_id(tenant)?;
            let place = |origin: &OriginRecord| (&origin.tenant, &origin.name).cmp(&(tenant, name));
            let Err(at) = state.origins.binary_search_by(place) else {
                return Err(RecordsError::Exists(format!("origin {tenant}/{name}")));
            };
            state.used.origin += 1;
            let record = OriginRecord {
                id: state.used.origin,
                tenant: tenant.clone(),
                name: name.clone(),
                settings: settings.clone(),
                created_at: now,
            };
            state.origins.insert(at, record.clone());
            let detail = settings_detail(settings);
            Ok((record, origin_change("origin.create", (tenant, name), detail)))
        })
    }

    pub(crate) fn change_origin(
        &self,
        origin: &OriginRecord,
        settings: &OriginSettings,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let OriginRecord { id, tenant, name, .. } = origin;
        self.change(actor, now, |state| {
            let found = state.origins.iter_mut().find(|origin| origin.id == *id);
            let missing = || RecordsError::Missing(format!("origin {tenant}/{name}"));
            found.ok_or_else(missing)?.settings = settings.clone();
            let before = settings_detail(&origin.settings);
            let detail = difference(&before, &settings_detail(settings));
            Ok(((), origin_change("origin.change", (tenant, name), detail)))
        })
    }

    pub(crate) fn delete_origin(
        &self,
        tenant: &Name,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, |state| {
            let subject = format!("origin {tenant}/{name}");
            let is_it = |origin: &OriginRecord| origin.tenant == *tenant && origin.name == *name;
            let Some(at) = state.origins.iter().position(is_it) else {
                return Err(RecordsError::Missing(subject));
            };
            let reads_it = |namespace: &NamespaceRecord| {
                let binding = namespace.policy.origin.as_ref();
                namespace.tenant == *tenant && binding.is_some_and(|bound| bound.origin == *name)
            };
            if state.namespaces.iter().any(reads_it) {
                return Err(RecordsError::InUse { subject, by: ORIGIN_USED_BY });
            }
            state.origins.remove(at);
            Ok(((), origin_change("origin.delete", (tenant, name), json!({}))))
        })
    }

    pub(crate) fn namespaces(&self) -> Vec<NamespaceRecord> {
        self.state().namespaces.clone()
    }

    pub(crate) fn create_namespace(
        &self,
        (tenant, name): (&Name, &Name),
        policy: &NamespacePolicy,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<NamespaceRecord>, RecordsError> {
        self.change(actor, now, |state| {
            state.needed_tenant_id(tenant)?;
            state.check_policy(tenant, policy)?;
            let place = |known: &NamespaceRecord| (&known.tenant, &known.name).cmp(&(tenant, name));
            let Err(at) = state.namespaces.binary_search_by(place) else {
                return Err(RecordsError::Exists(format!("namespace {tenant}/{name}")));
            };
            let record = NamespaceRecord {
                id: new_namespace_id(),
                tenant: tenant.clone(),
                name: name.clone(),
                policy: policy.clone(),
                created_at: now,
            };
            state.namespaces.insert(at, record.clone());
            let detail = policy_detail(policy);
            Ok((record, namespace_change("namespace.create", (tenant, name), detail)))
        })
    }

    pub(crate) fn change_policy(
        &self,
        namespace: &NamespaceRecord,
        (before, policy): (&NamespacePolicy, &NamespacePolicy),
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let NamespaceRecord { id, tenant, name, .. } = namespace;
        self.change(actor, now, |state| {
            state.needed_tenant_id(tenant)?;
            state.check_policy(tenant, policy)?;
            let found = state.namespaces.iter_mut().find(|known| known.id == *id);
            let missing = || RecordsError::Missing(format!("namespace {tenant}/{name}"));
            found.ok_or_else(missing)?.policy = policy.clone();
            let detail = difference(&policy_detail(before), &policy_detail(policy));
            Ok(((), namespace_change("namespace.change", (tenant, name), detail)))
        })
    }

    pub(crate) fn delete_namespace(
        &self,
        namespace: &NamespaceRecord,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let NamespaceRecord { id, tenant, name, .. } = namespace;
        self.change(actor, now, |state| {
            let Some(at) = state.namespaces.iter().position(|known| known.id == *id) else {
                return Err(RecordsError::Missing(format!("namespace {tenant}/{name}")));
            };
            state.namespaces.remove(at);
            state.withdraw_scopes(&format!("{tenant}/{name}"), now);
            Ok(((), namespace_change("namespace.delete", (tenant, name), json!({}))))
        })
    }
}
