//! Tenants.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use verax_core::{Name, TenantQuota, Timestamp};

use super::activity::{Change, difference};

/// What keeps a tenant from being deleted, and what to do.
pub(crate) const TENANT_USED_BY: &str = "it owns namespaces or origins; delete those first";

/// A tenant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TenantRecord {
    /// Its identifier.
    pub id: u64,
    /// Its name.
    pub name: Name,
    /// When it was created.
    pub created_at: Timestamp,
    /// What it may use.
    #[serde(default)]
    pub quota: TenantQuota,
}

/// The activity of a change to a tenant.
pub(crate) fn tenant_change(action: &'static str, name: &Name) -> Change {
    let (tenant, subject) = (Some(name.clone()), name.to_string());
    Change { tenant, action, subject, detail: json!({}) }
}

/// The activity of a change to a tenant's quota.
pub(crate) fn quota_change(name: &Name, before: &TenantQuota, after: &TenantQuota) -> Change {
    let (tenant, subject) = (Some(name.clone()), name.to_string());
    let detail = difference(&quota_detail(before), &quota_detail(after));
    Change { tenant, action: "tenant.change", subject, detail }
}

fn quota_detail(quota: &TenantQuota) -> Value {
    let limit = |number: u64| Some(number).filter(|number| *number != u64::MAX);
    json!({
        "reserve_bytes": quota.memory.reserve,
        "cap_bytes": limit(quota.memory.cap),
        "max_entries": limit(quota.memory.entries),
        "max_namespaces": quota.namespaces,
        "max_value_bytes": quota.max_value_bytes,
        "requests_per_second": quota.traffic.requests_per_second,
        "bytes_per_second": quota.traffic.bytes_per_second,
        "max_connections": quota.connections,
    })
}
