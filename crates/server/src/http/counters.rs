//! Counters.

use std::sync::Arc;

use axum::extract::State;
use verax_api::{AddRequest, Counter};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::cache_control_of;
use crate::http::extract::{Json, NamespacePath, WithKey};

/// Add to a counter, and create it if missing.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/counters/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path)),
    request_body = AddRequest,
    responses((status = 200, body = Counter),
        (status = 409, description = "the entry is not a number, or the sum is beyond 64 bits", body = verax_api::Problem))
))]
pub(crate) async fn add(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    Json(request): Json<AddRequest>,
) -> Result<axum::Json<Counter>> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let lifetime = cache_control_of(request.cache_control.as_deref())?;
    let counted = writer.add(&key, request.add, lifetime);
    let counted = counted.map_err(|error| Failure::wrong_kind(&error))?;
    Ok(axum::Json(Counter { value: counted.value, created: counted.created }))
}
