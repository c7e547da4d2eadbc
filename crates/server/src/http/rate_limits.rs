//! Rate limits.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use verax_api::{AcquireRate, FailureKind, RateLimit, duration_of};
use verax_core::store::{Rate, RateLimitError, RateLimitOutcome};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, NamespacePath, WithKey};

/// Acquire from a rate limit, if enough is left.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/rate-limits/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path)),
    request_body = AcquireRate,
    responses((status = 200, body = RateLimit, description = "it was acquired"),
        (status = 409, description = "the entry is not a rate limit", body = verax_api::Problem),
        (status = 422, description = "the rate is out of range, or more than the burst was asked for", body = verax_api::Problem),
        (status = 429, description = "nothing was acquired; Retry-After and `retry_after_seconds` tell when to retry", body = verax_api::Problem))
))]
pub(crate) async fn acquire(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    Json(request): Json<AcquireRate>,
) -> Result<Response> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let period = duration_of("period_seconds", request.period_seconds).map_err(Failure::invalid)?;
    let burst = request.burst.unwrap_or(request.rate);
    let rate = Rate::new(request.rate, period, burst).map_err(Failure::invalid)?;
    match writer.acquire_rate(&key, request.acquire, rate) {
        Ok(RateLimitOutcome::Allowed { left }) => {
            Ok(axum::Json(RateLimit { left }).into_response())
        }
        Ok(RateLimitOutcome::Later { retry_after }) => Ok(exhausted(retry_after)),
        Err(error @ RateLimitError::NotARateLimit) => Err(Failure::wrong_kind(&error)),
        Err(error) => Err(Failure::invalid(error)),
    }
}

fn exhausted(retry_after: Duration) -> Response {
    let detail = format!("nothing was acquired; retry in {} s", retry_after.as_secs_f64());
    Failure::new(FailureKind::RateLimited, detail).retry_after(retry_after).into_response()
}
