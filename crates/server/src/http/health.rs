//! Liveness and readiness.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use verax_api::Ready;
use verax_service::Service;

/// Report that the process is alive.
#[cfg_attr(test, utoipa::path(get, path = "/healthz", tag = "health", security(()),
    responses((status = 200, body = String, content_type = "text/plain"))))]
pub(crate) async fn healthz() -> &'static str {
    "alive\n"
}

/// Report whether entries are served, and what is degraded.
#[cfg_attr(test, utoipa::path(get, path = "/readyz", tag = "health", security(()),
    responses((status = 200, body = Ready), (status = 503, body = Ready))))]
pub(crate) async fn readyz(State(service): State<Arc<Service>>) -> (StatusCode, Json<Ready>) {
    let ready = service.ready();
    let status = if ready.ready { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, Json(ready))
}
