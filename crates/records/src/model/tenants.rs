//! Tenants.

use serde::{Deserialize, Serialize};
use serde_json::json;
use verax_core::{Name, Timestamp};

use super::activity::Change;

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
}

/// The activity of a change to a tenant.
pub(crate) fn tenant_change(action: &'static str, name: &Name) -> Change {
    let (tenant, subject) = (Some(name.clone()), name.to_string());
    Change { tenant, action, subject, detail: json!({}) }
}
