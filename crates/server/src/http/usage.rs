//! Usage over time, and advice from it.

use std::sync::Arc;

use axum::extract::State;
use serde::Deserialize;
use verax_api::{LifetimeAdvice, MemoryCurve, MemoryDivision, UsageHistory};
use verax_core::{Name, Timestamp};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::extract::{NamespacePath, Query};

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct UsageOptions {
    /// Of this tenant; of the whole service when absent.
    tenant: Option<String>,
    /// Of this namespace of the tenant.
    namespace: Option<String>,
    /// The beginning; an hour before the end when absent.
    #[cfg_attr(test, param(value_type = Option<String>, format = DateTime))]
    since: Option<jiff::Timestamp>,
    /// The end; now when absent.
    #[cfg_attr(test, param(value_type = Option<String>, format = DateTime))]
    until: Option<jiff::Timestamp>,
    /// The length of a slot in seconds: 10 (kept for an hour), 60 (a day), 900 (31 days), or 86400
    /// (two years). The finest that covers the range when absent.
    #[cfg_attr(test, param(value_type = Option<u64>))]
    step: Option<u64>,
}

fn timestamp(at: jiff::Timestamp) -> Timestamp {
    Timestamp::from_millis(u64::try_from(at.as_millisecond()).unwrap_or(0))
}

/// Show usage over time: memory, entries, reads, hits, bytes, origin reads, and what was refused.
#[cfg_attr(test, utoipa::path(get, path = "/v1/usage", tag = "usage", params(UsageOptions),
    responses((status = 200, body = UsageHistory), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn history(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    Query(query): Query<UsageOptions>,
) -> Result<axum::Json<UsageHistory>> {
    let name = |text: Option<String>| text.map(Name::new).transpose().map_err(Failure::invalid);
    let (tenant, namespace) = (name(query.tenant)?, name(query.namespace)?);
    let place = (tenant.as_ref(), namespace.as_ref());
    let range = (query.since.map(timestamp), query.until.map(timestamp));
    let history = service.control().usage_history(&caller, place, range, query.step).await?;
    Ok(axum::Json(history))
}

/// Advise on the max-age of a namespace: what others would mean for its origin and its readers.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/lifetime-advice", tag = "usage",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = LifetimeAdvice))
))]
pub(crate) async fn lifetime_advice(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
) -> Result<axum::Json<LifetimeAdvice>> {
    Ok(axum::Json(service.control().lifetime_advice(&caller, &tenant, &namespace)?))
}

/// Tell what other amounts of memory would mean for the hit ratio of a namespace.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/memory-curve", tag = "usage",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = MemoryCurve))
))]
pub(crate) async fn memory_curve(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
) -> Result<axum::Json<MemoryCurve>> {
    Ok(axum::Json(service.control().memory_curve(&caller, &tenant, &namespace)?))
}

/// Suggest how to divide memory among the namespaces that the caller may observe.
#[cfg_attr(test, utoipa::path(get, path = "/v1/memory-division", tag = "usage",
    responses((status = 200, body = MemoryDivision))))]
pub(crate) async fn memory_division(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
) -> Result<axum::Json<MemoryDivision>> {
    Ok(axum::Json(service.control().divide_memory(caller).await?))
}
