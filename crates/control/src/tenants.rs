//! Tenants.

use std::sync::Arc;

use verax_api::{Tenant as ApiTenant, TenantQuotaChange, TenantUsage, moment};
use verax_core::access::{Right, Scope};
use verax_core::{Name, TenantQuota};
use verax_records::TenantRecord;

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::expected::Expected;
use crate::limits::{self, MAX_TENANTS};
use crate::quotas::{self, quota_tag, quota_to_api};
use crate::registry::Tenant;
use crate::subject::Subject;

impl Control {
    /// The tenants that the caller may see, by name.
    pub fn tenants(&self, caller: &Caller) -> Vec<ApiTenant> {
        let sees = |name: &Name| {
            let within = |s: &Scope| matches!(s, Scope::Within { tenant, .. } if tenant == name);
            caller.is_admin() || caller.scopes().iter().any(within)
        };
        let tenants = self.registry.read();
        let mut tenants_to_api: Vec<_> = tenants
            .iter()
            .filter(|(name, _)| sees(name))
            .map(|(name, tenant)| tenant_to_api(caller, name, tenant))
            .collect();
        tenants_to_api.sort_by(|a, b| a.name.cmp(&b.name));
        tenants_to_api
    }

    /// Creates a tenant.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the name, a tenant of that name, or the records.
    pub async fn create_tenant(
        self: &Arc<Self>,
        caller: &Caller,
        name: &str,
    ) -> Result<ApiTenant, ControlError> {
        caller.needs(Scope::Admin)?;
        let name = Name::new(name).map_err(ControlError::invalid)?;
        let caller = caller.clone();
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            limits::check("tenants", control.registry.read().len(), MAX_TENANTS)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let record =
                control.follow_change(control.records.create_tenant(&name, &actor, now).await?);
            control.add_tenant(&record);
            control.tenant(&caller, &name)
        })
        .await
    }

    /// A tenant with its quota and use.
    ///
    /// # Errors
    /// [`ControlError`]: the scope or the tenant.
    pub fn tenant(&self, caller: &Caller, name: &Name) -> Result<ApiTenant, ControlError> {
        caller.needs(Scope::tenant(Right::Observe, name))?;
        let tenants = self.registry.read();
        let found = tenants.get(name).map(|tenant| tenant_to_api(caller, name, tenant));
        found.ok_or_else(|| ControlError::Unknown(Subject::Tenant(name.to_string())))
    }

    /// Changes parts of a tenant's quota, if its version is one that `expected` names. It applies
    /// to what begins after it; entries above it go bit by bit.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the tenant, the quota, or the records.
    pub async fn change_tenant(
        self: &Arc<Self>,
        caller: &Caller,
        name: &Name,
        change: &TenantQuotaChange,
        expected: Expected,
    ) -> Result<ApiTenant, ControlError> {
        caller.needs(Scope::Admin)?;
        let (caller, name, change) = (caller.clone(), name.clone(), *change);
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            let present = control.registry.read().get(&name).map(|tenant| tenant.quota);
            let unknown = || ControlError::Unknown(Subject::Tenant(name.to_string()));
            let present = present.ok_or_else(unknown)?;
            let quota = quotas::apply(&change, present);
            quota.check().map_err(ControlError::invalid)?;
            // Changes are serialized, so no other change comes in between.
            if !expected.includes(quota_tag(&quota_to_api(&present))) {
                return Err(ControlError::NotExpected("quota"));
            }
            control.check_tenant_quota(&name, &quota)?;
            let (actor, now) = (caller.actor(), control.engine.now());
            let changed = control.records.change_quota(&name, (&present, &quota), &actor, now);
            control.follow_change(changed.await?);
            control.set_quota(&name, &quota);
            control.tenant(&caller, &name)
        })
        .await
    }

    /// Adds a tenant that the records have.
    pub(crate) fn add_tenant(&self, record: &TenantRecord) {
        self.registry.add_tenant(record, self.engine.tenant(&record.name));
        self.set_quota(&record.name, &record.quota);
    }

    /// Sets the quota of a tenant in memory, as the records have it.
    pub(crate) fn set_quota(&self, name: &Name, quota: &TenantQuota) {
        if let Some(tenant) = self.registry.write().get_mut(name) {
            tenant.quota = *quota;
            tenant.share.set_quota(quota, self.engine.now());
        }
    }

    /// Deletes a tenant that no longer owns anything.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the tenant, what it still owns, or the records.
    pub async fn delete_tenant(
        self: &Arc<Self>,
        caller: &Caller,
        name: &Name,
    ) -> Result<(), ControlError> {
        caller.needs(Scope::Admin)?;
        let (caller, name) = (caller.clone(), name.clone());
        self.administer(async move |control| {
            caller.needs(Scope::Admin)?;
            if !control.registry.read().contains_key(&name) {
                return Err(ControlError::Unknown(Subject::Tenant(name.to_string())));
            }
            let (actor, now) = (caller.actor(), control.engine.now());
            control.follow_change(control.records.delete_tenant(&name, &actor, now).await?);
            control.registry.write().remove(&name);
            control.withdraw_scopes(&name, None);
            Ok(())
        })
        .await
    }
}

/// A tenant as a caller may see it: quota and use only with the right to observe all of it.
fn tenant_to_api(caller: &Caller, name: &Name, tenant: &Tenant) -> ApiTenant {
    let sees_all = caller.holds(&Scope::tenant(Right::Observe, name));
    ApiTenant {
        name: name.to_string(),
        created_at: moment(tenant.created_at),
        quota: sees_all.then(|| quota_to_api(&tenant.quota)),
        usage: sees_all.then(|| usage_of(tenant)),
    }
}

fn usage_of(tenant: &Tenant) -> TenantUsage {
    let memory = tenant.share.memory();
    TenantUsage {
        namespaces: tenant.namespaces.len() as u64,
        entries: memory.entries(),
        bytes: memory.used(),
        excess_bytes: memory.used().saturating_sub(tenant.quota.memory.cap),
        reserved_bytes: tenant.reserved(),
        connections: tenant.share.connections(),
        refused: tenant.share.refused(),
    }
}
