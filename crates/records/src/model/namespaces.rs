//! Namespaces.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use verax_core::{Name, NamespaceId, NamespacePolicy, Timestamp};

use super::activity::Change;

/// A namespace of a tenant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NamespaceRecord {
    /// Its identifier: random, so it is never reused, not even after an older dump is restored.
    pub id: NamespaceId,
    /// The tenant that owns it.
    pub tenant: Name,
    /// Its name within the tenant.
    pub name: Name,
    /// Its policy.
    pub policy: NamespacePolicy,
    /// When it was created.
    pub created_at: Timestamp,
}

/// A new identifier.
pub(crate) fn new_namespace_id() -> NamespaceId {
    // 63 bits, since some programs handle no more.
    NamespaceId(rand::random::<u64>() >> 1)
}

/// A namespace without a cap has none in the records either.
pub(crate) fn cap_of(policy: &NamespacePolicy) -> Option<u64> {
    Some(policy.quota.cap).filter(|cap| *cap != u64::MAX)
}

/// The details of a policy for the activity.
pub(crate) fn policy_detail(policy: &NamespacePolicy) -> Value {
    json!({
        "max_age_seconds": policy.lifetime.max_age.as_secs_f64(),
        "stale_while_revalidate_seconds": policy.lifetime.stale_while_revalidate.as_secs_f64(),
        "stale_if_error_seconds": policy.lifetime.stale_if_error.as_secs_f64(),
        "shortest_max_age_seconds": policy.shortest_max_age.as_secs_f64(),
        "longest_max_age_seconds": policy.longest_max_age.as_secs_f64(),
        "content": policy.content.name(),
        "content_schema": policy.schema.as_ref().map(|schema| schema.text()),
        "compress_above_bytes": policy.compress_above,
        "jitter_percent": policy.jitter_percent,
        "max_value_bytes": policy.max_value_bytes,
        "reserve_bytes": policy.quota.reserve,
        "cap_bytes": cap_of(policy),
        "max_entries": Some(policy.quota.entries).filter(|most| *most != u64::MAX),
        "requests_per_second": policy.traffic.requests_per_second,
        "bytes_per_second": policy.traffic.bytes_per_second,
        "negative_max_age_seconds": policy.negative_max_age.as_secs_f64(),
        "early_refresh_percent": policy.early_refresh_percent,
        "write_through": policy.write_through,
        "bypass_until_ms": policy.bypass_until.map(Timestamp::as_millis),
        "intervals": policy.intervals.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "origin": policy.origin.as_ref().map(|o| o.origin.as_str()),
        "key_pattern": policy.origin.as_ref().map(|o| o.key_pattern.to_string()),
    })
}

/// The activity of a change to a namespace.
pub(crate) fn namespace_change(
    action: &'static str,
    (tenant, name): (&Name, &Name),
    detail: Value,
) -> Change {
    Change { tenant: Some(tenant.clone()), action, subject: format!("{tenant}/{name}"), detail }
}
