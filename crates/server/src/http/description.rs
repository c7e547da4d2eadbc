//! The interface's own description (OpenAPI 3.1), served to people and programs.

use axum::http::HeaderValue;
use axum::http::header::CONTENT_TYPE;
use axum::response::{IntoResponse, Response};

/// Derived from handlers and types by `make openapi`; a test keeps it current.
const DESCRIPTION: &str = include_str!("../../../../docs/openapi.json");

/// Show this description.
#[cfg_attr(test, utoipa::path(get, path = "/openapi.json", tag = "health", operation_id = "description", security(()),
    responses((status = 200, body = Object))))]
pub(crate) async fn show() -> Response {
    let json = HeaderValue::from_static("application/json");
    ([(CONTENT_TYPE, json)], DESCRIPTION).into_response()
}
