//! Tenants.

use std::sync::Arc;

use verax_api::{Tenant as ApiTenant, moment};
use verax_core::Name;
use verax_core::access::Scope;

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::limits::{self, MAX_TENANTS};
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
            .map(|(name, t)| ApiTenant { name: name.to_string(), created_at: moment(t.created_at) })
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
            control.registry.add_tenant(&record);
            Ok(ApiTenant { name: name.to_string(), created_at: moment(record.created_at) })
        })
        .await
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
