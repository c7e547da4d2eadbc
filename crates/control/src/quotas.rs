//! What tenants and namespaces are guaranteed and may use. Quotas divide what all tenants share, so
//! only administrators set them, and reserves must fit into the memory together.

use verax_api::{TenantQuota as ApiQuota, TenantQuotaChange};
use verax_core::{EntityTag, Name, NamespaceId, NamespacePolicy, TenantQuota};

use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::{InvalidInput, Reserves};
use crate::registry::Tenant;

/// `None` for the number that stands for no limit.
pub(crate) fn limit(number: u64) -> Option<u64> {
    Some(number).filter(|number| *number != u64::MAX)
}

pub(crate) fn quota_to_api(quota: &TenantQuota) -> ApiQuota {
    ApiQuota {
        reserve_bytes: quota.memory.reserve,
        cap_bytes: limit(quota.memory.cap),
        max_entries: limit(quota.memory.entries),
        max_namespaces: quota.namespaces,
        max_value_bytes: quota.max_value_bytes,
        requests_per_second: quota.traffic.requests_per_second,
        bytes_per_second: quota.traffic.bytes_per_second,
        max_connections: quota.connections,
    }
}

/// The entity tag of a tenant's quota (RFC 9110, section 8.8.3); equal quotas have equal tags.
pub fn quota_tag(quota: &ApiQuota) -> EntityTag {
    EntityTag::of("application/json", &serde_json::to_vec(quota).unwrap_or_default())
}

/// Changes the parts of a quota that a request names.
pub(crate) fn apply(change: &TenantQuotaChange, mut quota: TenantQuota) -> TenantQuota {
    if let Some(bytes) = change.reserve_bytes {
        quota.memory.reserve = bytes;
    }
    for (given, number) in
        [(change.cap_bytes, &mut quota.memory.cap), (change.max_entries, &mut quota.memory.entries)]
    {
        if let Some(given) = given {
            *number = given.unwrap_or(u64::MAX);
        }
    }
    for (given, part) in [
        (change.max_namespaces, &mut quota.namespaces),
        (change.max_value_bytes, &mut quota.max_value_bytes),
        (change.requests_per_second, &mut quota.traffic.requests_per_second),
        (change.bytes_per_second, &mut quota.traffic.bytes_per_second),
        (change.max_connections, &mut quota.connections),
    ] {
        if let Some(given) = given {
            *part = given;
        }
    }
    quota
}

impl Tenant {
    /// The reserves of its namespaces together, but for one of them.
    fn reserved_but(&self, left_out: Option<NamespaceId>) -> u64 {
        let counted = self.namespaces.values().filter(|n| Some(n.id()) != left_out);
        counted.map(|n| n.binding().policy.quota.reserve).sum()
    }

    /// The reserves of its namespaces together.
    pub(crate) fn reserved(&self) -> u64 {
        self.reserved_but(None)
    }

    /// The memory that it is guaranteed.
    fn guaranteed(&self) -> u64 {
        self.quota.memory.reserve.max(self.reserved())
    }
}

impl Control {
    /// What all tenants but one are guaranteed together.
    fn guaranteed_to_others(&self, tenant: &Name) -> u64 {
        let tenants = self.registry.read();
        tenants.iter().filter(|(name, _)| *name != tenant).map(|(_, t)| t.guaranteed()).sum()
    }

    /// Checks that a tenant's quota leaves room for its namespaces, and for the other tenants.
    pub(crate) fn check_tenant_quota(
        &self,
        tenant: &Name,
        quota: &TenantQuota,
    ) -> Result<(), ControlError> {
        quota.check().map_err(ControlError::invalid)?;
        let reserves = self.registry.read().get(tenant).map_or(0, Tenant::reserved);
        let (reserve, cap) = (quota.memory.reserve, quota.memory.cap);
        for (what, bytes) in [("reserve", reserve), ("cap", cap)] {
            if bytes < reserves && (what == "cap" || reserve > 0) {
                return Err(InvalidInput::NamespaceReserves { what, bytes, reserves }.into());
            }
        }
        let (reserved, limit) = (self.guaranteed_to_others(tenant), self.engine.memory().limit);
        let left = limit.saturating_sub(reserved);
        if reserve > left {
            let others = Reserves::Tenants;
            return Err(InvalidInput::Reserve { reserve, others, reserved, limit, left }.into());
        }
        Ok(())
    }

    /// Checks that a namespace's reserve fits into its tenant's, or else into the memory, and that
    /// its largest value is one that the tenant may store.
    pub(crate) fn check_namespace_quota(
        &self,
        tenant: &Name,
        changed: Option<NamespaceId>,
        policy: &NamespacePolicy,
    ) -> Result<(), ControlError> {
        let (quota, siblings) = {
            let tenants = self.registry.read();
            let found = tenants.get(tenant);
            (
                found.map(|t| t.quota).unwrap_or_default(),
                found.map_or(0, |t| t.reserved_but(changed)),
            )
        };
        if let Some(most) = quota.max_value_bytes.filter(|most| policy.max_value_bytes > *most) {
            let bytes = policy.max_value_bytes;
            return Err(InvalidInput::TenantValue { bytes, most }.into());
        }
        let reserve = policy.quota.reserve;
        if reserve == 0 {
            return Ok(());
        }
        // A tenant's own reserve is there already; without one, its namespaces share the memory
        // with everybody.
        let (others, reserved, limit) = match quota.memory.reserve {
            0 => {
                let reserved = self.guaranteed_to_others(tenant) + siblings;
                let limit = self.engine.memory().limit.min(quota.memory.cap);
                (Reserves::Namespaces, reserved, limit)
            }
            tenants_own => (Reserves::Siblings, siblings, tenants_own),
        };
        let left = limit.saturating_sub(reserved);
        match reserve > left {
            true => Err(InvalidInput::Reserve { reserve, others, reserved, limit, left }.into()),
            false => Ok(()),
        }
    }
}
