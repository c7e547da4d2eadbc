//! Failures as HTTP responses: problem documents (RFC 9457).

use std::any::Any;

use axum::extract::Request;
use axum::http::header::{CONTENT_TYPE, RETRY_AFTER, WWW_AUTHENTICATE};
use axum::http::{HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use verax_api::{FailureKind, Problem};
use verax_core::access::Scope;

use crate::failure::Failure;

impl IntoResponse for Failure {
    fn into_response(self) -> Response {
        let (kind, retry_after) = (self.kind(), self.retry_after_seconds());
        let problem = self.into_problem();
        let status =
            StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&problem).unwrap_or_default();
        let mut response = (status, body).into_response();
        let headers = response.headers_mut();
        headers.insert(CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        if kind.is_temporary() || retry_after.is_some() {
            // The field counts whole seconds; the member is exact.
            let seconds = retry_after.map_or(1, |seconds| seconds.ceil().max(1.0) as u64);
            headers.insert(RETRY_AFTER, HeaderValue::from(seconds));
        }
        if let Some(challenge) = challenge(kind, &problem) {
            headers.insert(WWW_AUTHENTICATE, challenge);
        }
        // The request log adds the request's id.
        response.extensions_mut().insert(ProblemBody(problem.into()));
        response
    }
}

/// Marks a response as a problem that can still be extended.
#[derive(Debug, Clone)]
pub(crate) struct ProblemBody(pub(crate) std::sync::Arc<Problem>);

/// RFC 6750, section 3.
fn challenge(kind: FailureKind, problem: &Problem) -> Option<HeaderValue> {
    match kind {
        FailureKind::NotSignedIn => Some(HeaderValue::from_static("Bearer realm=\"verax\"")),
        FailureKind::MissingScope => {
            let scope: Scope = problem.more.get("missing_scope")?.as_str()?.parse().ok()?;
            let text =
                format!("Bearer realm=\"verax\", error=\"insufficient_scope\", scope=\"{scope}\"");
            HeaderValue::try_from(text).ok()
        }
        _ => None,
    }
}

pub(crate) async fn no_such_path(request: Request) -> Failure {
    let path: String = request.uri().path().chars().take(200).collect();
    let detail = format!("{path} is not a path of this API; /openapi.json lists them");
    Failure::new(FailureKind::NoSuchPath, detail)
}

pub(crate) async fn no_such_method(request: Request) -> Failure {
    let detail = format!(
        "this path does not support {}; /openapi.json lists what it does",
        request.method()
    );
    Failure::new(FailureKind::NoSuchMethod, detail)
}

/// A panic is a defect of Verax; its message goes only to the log.
pub(crate) fn after_panic(panic: Box<dyn Any + Send + 'static>) -> Response {
    let text = panic
        .downcast_ref::<String>()
        .map(String::as_str)
        .or_else(|| panic.downcast_ref::<&str>().copied())
        .unwrap_or("no text");
    tracing::error!(panic = text, "a request failed inside Verax");
    let detail = "the request failed inside Verax; its log has more under this request id";
    Failure::new(FailureKind::Internal, detail).into_response()
}
