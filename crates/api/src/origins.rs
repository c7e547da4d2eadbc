//! Origins of tenants: HTTP services on one or several servers, and queries to a MariaDB.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::object::object_or_null;

/// Further servers of an HTTP origin, and which of them is asked. Absent parts keep what they are.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PoolChange {
    /// Further servers of the same service, as `http://host:port`; the URL template's path is read
    /// from any of them. An empty list leaves the template's own server alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoints: Option<Vec<String>>,
    /// `round-robin`, the default, or `least-outstanding`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub balance: Option<String>,
    /// A slower answer counts as a failure of the server that gave it, as long as another is
    /// healthy; 0, the default, counts no answer in time as slow.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slow_after_ms: Option<u64>,
}

/// What a MariaDB is asked. Absent parts keep what they are.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SqlChange {
    /// One SELECT, with `:name` for each variable of the key patterns that are bound to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// What its result is as a value: `rows`, the default, is an array, which may be empty; `row`
    /// is the only row as an object, and no row is no value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
    /// The most rows, 1 to 1000000; 10000 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_rows: Option<u32>,
}

/// The overload protection of an origin. Absent parts keep what they are.
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

/// Asks for an origin.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CreateOrigin {
    /// Its name within the tenant.
    pub name: String,
    /// A URL template (RFC 6570), such as `http://127.0.0.1:8752/boards/{harbour}`, or for a query
    /// the database, as `mysql://user@host:port/database`.
    pub url: String,
    /// The longest time to connect; 1000 when absent, and 10000 and 8 MiB for the other two.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_timeout_ms: Option<u64>,
    /// The longest time from the request to the last byte, a retry included.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total_timeout_ms: Option<u64>,
    /// The largest response.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_response_bytes: Option<u64>,
    /// The name of the secret that opens it: all of the `Authorization` field of an HTTP service,
    /// or the password for a database. It is read from the variable `VERAX_CREDENTIAL_NAME` or from
    /// a file of that name, and is never in the records.
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
    /// The paths on its server, such as `/harbours`, that runs may read lists of values from; none
    /// when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listings: Option<Vec<String>>,
    /// The namespaces whose own managers may bind to it; none when absent. Managers of the whole
    /// tenant always may.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open_to: Option<Vec<String>>,
}

/// Parts of an origin's settings; absent parts keep what they are.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct OriginChange {
    /// A URL template (RFC 6570), or the URL of a database; one does not become the other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// The longest time to connect.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_timeout_ms: Option<u64>,
    /// The longest time from the request to the last byte, a retry included.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total_timeout_ms: Option<u64>,
    /// The largest response.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_response_bytes: Option<u64>,
    /// The name of the secret that opens it; an empty one is none.
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
    /// The paths on its server, such as `/harbours`, that runs may read lists of values from; none
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
    /// Where it is, for administrators; to others a number.
    pub url: String,
    /// What its circuit breaker does, as for the origin.
    pub breaker: String,
    /// Reads of it under way.
    pub reads_in_flight: u64,
}

/// The servers of an HTTP origin.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Pool {
    /// Which of them is asked: `round-robin` or `least-outstanding`.
    pub balance: String,
    /// A slower response counts as a failure of its server; absent when none does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slow_after_ms: Option<u64>,
}

/// What a MariaDB is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Sql {
    /// The query.
    pub query: String,
    /// What its result is as a value: `rows` or `row`.
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
    /// Its URL template (RFC 6570), or the URL of its database. Only administrators see it: to
    /// others it says `http://…` or `mysql://…`.
    pub url: String,
    /// The longest time to connect.
    pub connect_timeout_ms: u64,
    /// The longest time from the request to the last byte, a retry included.
    pub total_timeout_ms: u64,
    /// The largest response.
    pub max_response_bytes: u64,
    /// The name of the secret that opens it, for administrators.
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
    /// What its circuit breakers do: `closed` lets calls through to at least one server, `open`
    /// lets none through after several failures in a row, `half-open` lets one through to see.
    pub breaker: String,
    /// Reads of it under way.
    pub reads_in_flight: u64,
    /// Reads that wait for a place among those.
    pub reads_queued: u64,
    /// When it was created.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub created_at: Timestamp,
}
