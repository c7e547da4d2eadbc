//! Origins of tenants: HTTP services on one or several servers, and queries to a MariaDB.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::object::object_or_null;

/// Further servers of an HTTP origin, and how one is picked. Absent parts stay unchanged.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PoolChange {
    /// Further servers of the same service, as `http://host:port`; the URL template's path is read
    /// from any of them. An empty list leaves only the template's own server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoints: Option<Vec<String>>,
    /// `round-robin`, the default, or `least-outstanding`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub balance: Option<String>,
    /// A slower response counts as a failure of its server while another server is healthy; 0, the
    /// default, disables this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slow_after_ms: Option<u64>,
}

/// The query to a MariaDB. Absent parts stay unchanged.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SqlChange {
    /// One SELECT, with `:name` for each variable of the key patterns that are bound to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// How its result becomes a value: `rows`, the default, makes an array, possibly empty; `row`
    /// makes the only row an object, and no row means no value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
    /// The most rows, 1 to 1000000; 10000 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_rows: Option<u32>,
}

/// The overload protection of an origin. Absent parts stay unchanged.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct GuardChange {
    /// The most concurrent reads; further ones are queued. 256 by default, 32 for a query.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_concurrency: Option<u32>,
    /// The most queued reads; 10000 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_queue: Option<u32>,
    /// How many reads in a hundred may be retried after a failure; 10 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_budget_percent: Option<u8>,
    /// Consecutive failures that open a server's circuit; 5 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure_threshold: Option<u32>,
    /// How long the circuit stays open at first; twice as long after each failed probe. 500 by
    /// default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open_for_ms: Option<u64>,
}

/// Creates an origin.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CreateOrigin {
    /// Its name within the tenant.
    pub name: String,
    /// A URL template (RFC 6570), such as `http://127.0.0.1:8752/boards/{harbor}`, or for a query
    /// the database, as `mysql://user@host:port/database`.
    pub url: String,
    /// The longest time to connect; 1000 when absent. The other two default to 10000 and 8 MiB.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_timeout_ms: Option<u64>,
    /// The timeout from the request to the last byte, including a retry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total_timeout_ms: Option<u64>,
    /// The largest response.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_response_bytes: Option<u64>,
    /// The name of its credential: the whole `Authorization` field for an HTTP service, or the
    /// password for a database. The service reads it from the variable `VERAX_CREDENTIAL_NAME` or
    /// from a file of that name; it is never stored in the records.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<String>,
    /// Further servers of an HTTP service.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "object_or_null")]
    pub pool: Option<PoolChange>,
    /// The query to a database.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "object_or_null")]
    pub sql: Option<SqlChange>,
    /// Its overload protection.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "object_or_null")]
    pub guard: Option<GuardChange>,
    /// The paths on its server, such as `/harbors`, that runs may read lists of values from; none
    /// when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listings: Option<Vec<String>>,
    /// The namespaces whose own managers may bind to it; none when absent. Managers of the whole
    /// tenant always may.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open_to: Option<Vec<String>>,
}

/// Parts of an origin's settings; absent parts stay unchanged.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct OriginChange {
    /// A URL template (RFC 6570), or the URL of a database; the kind of origin cannot change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// The timeout to connect.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_timeout_ms: Option<u64>,
    /// The timeout from the request to the last byte, including a retry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total_timeout_ms: Option<u64>,
    /// The largest response.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_response_bytes: Option<u64>,
    /// The name of its credential; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<String>,
    /// Further servers of an HTTP service.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "object_or_null")]
    pub pool: Option<PoolChange>,
    /// The query to a database.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "object_or_null")]
    pub sql: Option<SqlChange>,
    /// Its overload protection.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "object_or_null")]
    pub guard: Option<GuardChange>,
    /// The paths on its server, such as `/harbors`, that runs may read lists of values from; none
    /// when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listings: Option<Vec<String>>,
    /// The namespaces whose own managers may bind to it; none when absent. Managers of the whole
    /// tenant always may.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open_to: Option<Vec<String>>,
}

/// One server of an origin.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Endpoint {
    /// Its URL, for administrators; a number for others.
    pub url: String,
    /// The state of its circuit breaker, as for the origin.
    pub breaker: String,
    /// Its reads in flight.
    pub reads_in_flight: u64,
}

/// The servers of an HTTP origin.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Pool {
    /// How a server is picked: `round-robin` or `least-outstanding`.
    pub balance: String,
    /// A slower response counts as a failure of its server; absent when none does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slow_after_ms: Option<u64>,
}

/// The query to a MariaDB.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Sql {
    /// The query.
    pub query: String,
    /// How its result becomes a value: `rows` or `row`.
    pub result: String,
    /// The most rows.
    pub max_rows: u32,
}

/// The overload protection of an origin.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Guard {
    /// The most concurrent reads.
    pub max_concurrency: u32,
    /// The most queued reads.
    pub max_queue: u32,
    /// How many reads in a hundred may be retried.
    pub retry_budget_percent: u8,
    /// Consecutive failures that open a server's circuit.
    pub failure_threshold: u32,
    /// How long the circuit stays open at first.
    pub open_for_ms: u64,
}

/// An origin.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Origin {
    /// The tenant that owns it.
    pub tenant: String,
    /// Its name within the tenant.
    pub name: String,
    /// Its URL template (RFC 6570), or the URL of its database. Only administrators see it; others
    /// see `http://…` or `mysql://…`.
    pub url: String,
    /// The timeout to connect.
    pub connect_timeout_ms: u64,
    /// The timeout from the request to the last byte, including a retry.
    pub total_timeout_ms: u64,
    /// The largest response.
    pub max_response_bytes: u64,
    /// The name of its credential, for administrators.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<String>,
    /// Its servers, if it is an HTTP service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<Pool>,
    /// Its query, if it is a database.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sql: Option<Sql>,
    /// Its overload protection.
    pub guard: Guard,
    /// The paths on its server that runs may read lists of values from.
    pub listings: Vec<String>,
    /// The namespaces whose own managers may bind to it.
    pub open_to: Vec<String>,
    /// Its servers, one by one.
    pub endpoints: Vec<Endpoint>,
    /// The state of its circuit breakers: `closed` lets calls through to at least one server,
    /// `open` lets none through after several consecutive failures, `half-open` lets a probe
    /// through.
    pub breaker: String,
    /// Its reads in flight.
    pub reads_in_flight: u64,
    /// Its queued reads.
    pub reads_queued: u64,
    /// When it was created.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub created_at: Timestamp,
}
