//! What a tenant may use, and what it uses.

use serde::{Deserialize, Serialize};

use crate::object::given;

/// What a tenant may use with all of its namespaces together. Members that are `null` have no limit
/// but the service's.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TenantQuota {
    /// Memory that no other tenant can push this one below.
    pub reserve_bytes: u64,
    /// Memory that it never exceeds.
    pub cap_bytes: Option<u64>,
    /// The most entries.
    pub max_entries: Option<u64>,
    /// The most namespaces.
    pub max_namespaces: Option<u64>,
    /// The largest value that a namespace may allow.
    pub max_value_bytes: Option<u64>,
    /// The most requests in a second. A batch counts as many as it has operations.
    pub requests_per_second: Option<u64>,
    /// The most bytes of values in a second, in both directions together.
    pub bytes_per_second: Option<u64>,
    /// The most connections at the same time.
    pub max_connections: Option<u64>,
}

/// Parts of a tenant's quota; absent parts stay unchanged, and `null` removes a limit.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TenantQuotaChange {
    /// Memory that no other tenant can push this one below; 0 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reserve_bytes: Option<u64>,
    /// Memory that it never exceeds.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub cap_bytes: Option<Option<u64>>,
    /// The most entries.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub max_entries: Option<Option<u64>>,
    /// The most namespaces.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub max_namespaces: Option<Option<u64>>,
    /// The largest value that a namespace may allow.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub max_value_bytes: Option<Option<u64>>,
    /// The most requests in a second.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub requests_per_second: Option<Option<u64>>,
    /// The most bytes of values in a second.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub bytes_per_second: Option<Option<u64>>,
    /// The most connections at the same time.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub max_connections: Option<Option<u64>>,
}

/// What a tenant uses.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TenantUsage {
    /// How many namespaces.
    pub namespaces: u64,
    /// How many entries.
    pub entries: u64,
    /// Their memory, including bookkeeping.
    pub bytes: u64,
    /// How much of that is above a lowered cap and still to go.
    pub excess_bytes: u64,
    /// The reserves of its namespaces together.
    pub reserved_bytes: u64,
    /// Its connections.
    pub connections: u64,
    /// Requests and connections that its quotas have refused since the service started.
    pub refused: u64,
}
