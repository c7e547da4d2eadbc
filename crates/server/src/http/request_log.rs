//! Assigns an id to each request, and logs a line when it ends.

use std::panic::AssertUnwindSafe;
use std::time::Instant;

use axum::body::Body;
use axum::extract::Request;
use axum::http::header::CONTENT_LENGTH;
use axum::http::{HeaderName, HeaderValue};
use axum::response::Response;
use futures_util::FutureExt;

use verax_api::FailureKind;

use crate::http::problem::{ProblemBody, after_panic};

const REQUEST_ID: HeaderName = HeaderName::from_static("request-id");

/// Handles a request, even one that panics, with an id and a line in the log.
pub(crate) async fn logged(
    request: Request,
    answer: impl AsyncFnOnce(Request) -> Response,
) -> Response {
    let started = Instant::now();
    let id = format!("{:016x}", rand::random::<u64>());
    let seen = tracing::enabled!(tracing::Level::DEBUG);
    let line = seen.then(|| (request.method().clone(), request.uri().path().to_owned()));
    let answering = AssertUnwindSafe(answer(request)).catch_unwind();
    let mut response = answering.await.unwrap_or_else(after_panic);
    let status = response.status();
    if let Some(ProblemBody(problem)) = response.extensions_mut().remove() {
        let mut problem = (*problem).clone();
        problem.request_id = Some(id.clone());
        // Refusals by a standby are expected.
        if status.is_server_error() && problem.failure() != Some(FailureKind::Standby) {
            tracing::warn!(request_id = %id, status = status.as_u16(), problem = problem.name(), detail = %problem.detail, "a request failed");
        }
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        response.headers_mut().insert(CONTENT_LENGTH, HeaderValue::from(body.len()));
        *response.body_mut() = Body::from(body);
    }
    if let Some((method, path)) = line {
        tracing::debug!(
            request_id = %id, %method, path, status = status.as_u16(),
            milliseconds = started.elapsed().as_secs_f64() * 1_000.0, "request"
        );
    }
    if let Ok(value) = HeaderValue::try_from(id) {
        response.headers_mut().insert(REQUEST_ID, value);
    }
    response
}
