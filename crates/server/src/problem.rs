//! Errors as problem documents (RFC 9457).

use std::any::Any;

use axum::extract::Request;
use axum::http::header::{CONTENT_TYPE, RETRY_AFTER, WWW_AUTHENTICATE};
use axum::http::{HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use verax_api::Problem;
use verax_control::ControlError;
use verax_core::access::Scope;
use verax_core::guard::RefusedReason;
use verax_engine::{EngineError, OriginError};

/// An error on its way out.
#[derive(Debug)]
pub(crate) struct Failure(pub(crate) Box<Problem>);

pub(crate) type Result<T> = std::result::Result<T, Failure>;

impl Failure {
    pub(crate) fn new(name: &str, title: &str, status: u16, detail: impl Into<String>) -> Self {
        Self(Box::new(Problem::new(name, title, status, detail)))
    }
    /// What is there is no such thing, or too large a number.
    pub(crate) fn wrong_kind(error: &dyn std::fmt::Display) -> Self {
        Self::new("wrong-kind", "The entry is something else", 409, error.to_string())
    }

    /// A request that cannot be understood.
    pub(crate) fn bad_request(detail: impl Into<String>) -> Self {
        Self::new("bad-request", "The request cannot be understood", 400, detail)
    }

    /// A request that is understood, and asks for what cannot be.
    pub(crate) fn invalid(detail: impl Into<String>) -> Self {
        Self::new("invalid", "The request asks for something invalid", 422, detail)
    }
}

impl From<ControlError> for Failure {
    fn from(error: ControlError) -> Self {
        let text = error.to_string();
        let new = |name, title, status| Problem::new(name, title, status, text.clone());
        let problem = match error {
            ControlError::Engine(error) => return error.into(),
            ControlError::NotSignedIn(_) => not_signed_in(text),
            ControlError::MissingScope(scope) => {
                new("missing-scope", "The token lacks a scope", 403)
                    .with("missing_scope", scope.to_string())
            }
            ControlError::Unknown(_) => new("not-found", "There is no such thing", 404),
            ControlError::Invalid(_) => {
                new("invalid", "The request asks for something invalid", 422)
            }
            ControlError::Conflict(_) => new("conflict", "What is there stands in the way", 409),
            ControlError::NotExpected(_) => {
                new("condition-failed", "The condition does not hold", 412)
            }
            ControlError::RecordsUnavailable(_) => {
                new("records-unavailable", "The records are not available", 503)
            }
            ControlError::Busy(_) => new("busy", "Too much is going on", 503),
        };
        Self(Box::new(problem))
    }
}

fn not_signed_in(text: String) -> Problem {
    Problem::new("not-signed-in", "A valid token is needed", 401, text)
}

impl From<EngineError> for Failure {
    fn from(error: EngineError) -> Self {
        let text = error.to_string();
        let new = |name, title, status| Problem::new(name, title, status, text.clone());
        let problem = match &error {
            EngineError::AccessEnded => not_signed_in(text),
            EngineError::Invalid(_) => {
                new("invalid", "The request asks for something invalid", 422)
            }
            EngineError::NamespaceGone => new("not-found", "There is no such thing", 404),
            EngineError::Unconfirmed(_) => {
                new("records-unavailable", "The records are not available", 503)
            }
            EngineError::Standby => new("standby", "This Verax stands by", 503),
            EngineError::ValueTooLarge { limit, .. } => {
                new("value-too-large", "The value is too large", 413).with("limit_bytes", *limit)
            }
            EngineError::DoesNotFit(_) => {
                new("value-too-large", "The value does not fit into memory", 413)
            }
            EngineError::ConditionFailed => {
                new("condition-failed", "The condition does not hold", 412)
            }
            EngineError::Origin(origin) => return of_origin(origin),
            EngineError::NegativeResult { left } => {
                new("no-value", "The origin has no such value", 404)
                    .with("asked_again_in_seconds", left.as_secs_f64())
            }
            EngineError::NotWritten { error } => {
                let status = if error.kind() == "timeout" { 504 } else { 502 };
                let status =
                    if matches!(error.kind(), "set-aside" | "busy") { 503 } else { status };
                let certain = error.is_certain();
                let mut problem = new("not-written", "The origin did not take the value", status)
                    .with("origin_error", error.kind())
                    .with("unchanged", certain);
                if let Some(answered) = error.status() {
                    problem = problem.with("origin_status", answered);
                }
                problem
            }
            EngineError::Permit(RefusedReason::Voided) => {
                new("permit-voided", "The refill permit was voided", 409)
            }
            EngineError::Permit(RefusedReason::Expired) => {
                new("permit-expired", "The refill permit is over", 409)
            }
            EngineError::RefillGivenUp => new("refill-given-up", "The refill was given up", 502),
            EngineError::NotHeld(_) => new("not-held", "The lease is over", 409),
            EngineError::Busy(_) => new("busy", "Too much is going on", 503),
        };
        Self(Box::new(problem))
    }
}

/// Applications are told what went wrong, but no addresses within the operator's network.
fn of_origin(error: &OriginError) -> Failure {
    let (name, title, status) = match error {
        OriginError::NoValue { .. } => ("no-value", "The origin has no such value", 404),
        OriginError::Timeout { .. } => ("origin-timeout", "The origin did not answer in time", 504),
        OriginError::SetAside { .. } | OriginError::Busy => {
            ("origin-unavailable", "The origin is not asked at the moment", 503)
        }
        OriginError::NoUrl(_) => ("invalid", "The key makes no URL for the origin", 422),
        _ => ("origin-failed", "The origin gave no value", 502),
    };
    let mut problem =
        Problem::new(name, title, status, error.plain()).with("origin_error", error.kind());
    if let Some(answered) = error.status() {
        problem = problem.with("origin_status", answered);
    }
    Failure(Box::new(problem))
}

impl IntoResponse for Failure {
    fn into_response(self) -> Response {
        let status =
            StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&self.0).unwrap_or_default();
        let mut response = (status, body).into_response();
        let headers = response.headers_mut();
        headers.insert(CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        if status == StatusCode::SERVICE_UNAVAILABLE {
            headers.insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        if let Some(challenge) = challenge(&self.0) {
            headers.insert(WWW_AUTHENTICATE, challenge);
        }
        // The request log puts the request's id into it.
        response.extensions_mut().insert(ProblemBody(self.0.into()));
        response
    }
}

/// Marks a response as a problem that may still be completed.
#[derive(Debug, Clone)]
pub(crate) struct ProblemBody(pub(crate) std::sync::Arc<Problem>);

/// RFC 6750, section 3.
fn challenge(problem: &Problem) -> Option<HeaderValue> {
    match problem.status {
        401 => Some(HeaderValue::from_static("Bearer realm=\"verax\"")),
        403 => {
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
    Failure::new("no-such-path", "There is no such path", 404, detail)
}

pub(crate) async fn no_such_method(request: Request) -> Failure {
    let detail = format!("{} is not possible here; /openapi.json lists what is", request.method());
    Failure::new("no-such-method", "The method is not possible here", 405, detail)
}

/// A panic is a mistake in Verax; its text goes to the log alone.
pub(crate) fn after_panic(panic: Box<dyn Any + Send + 'static>) -> Response {
    let text = panic
        .downcast_ref::<String>()
        .map(String::as_str)
        .or_else(|| panic.downcast_ref::<&str>().copied())
        .unwrap_or("no text");
    tracing::error!(panic = text, "a request failed inside Verax");
    let detail = "the request failed inside Verax; the log says more under this request id";
    Failure::new("internal", "Verax made a mistake", 500, detail).into_response()
}
