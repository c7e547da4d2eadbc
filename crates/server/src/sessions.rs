//! Console sessions and sign-in links.

use std::sync::Arc;

use axum::Json as Answer;
use axum::extract::State;
use axum::http::header::SET_COOKIE;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use verax_api::{CreateSession, Session, SignInLink};
use verax_service::Service;

use crate::extract::Json;
use crate::problem::Result;
use crate::signed::{SESSION_COOKIE, Signed, session_cookie};

/// Twelve hours, as long as the service keeps a session.
const SECONDS: u32 = 12 * 3_600;

/// Start a console session, by the code of a sign-in link or by a token.
#[utoipa::path(post, path = "/v1/session", tag = "session", request_body = CreateSession,
    responses((status = 201, body = Session), (status = 401, body = verax_api::Problem)))]
pub(crate) async fn start(
    State(service): State<Arc<Service>>,
    Json(by): Json<CreateSession>,
) -> Result<Response> {
    let (secret, session) = service.start_session(&by)?;
    let cookie =
        format!("{SESSION_COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={SECONDS}");
    Ok((StatusCode::CREATED, [(SET_COOKIE, cookie)], Answer(session)).into_response())
}

/// Show who is signed in.
#[utoipa::path(get, path = "/v1/session", tag = "session",
    responses((status = 200, body = Session), (status = 401, body = verax_api::Problem)))]
pub(crate) async fn show(
    State(service): State<Arc<Service>>,
    Signed(caller): Signed,
) -> Answer<Session> {
    Answer(service.session_of(&caller))
}

/// End the console session.
#[utoipa::path(delete, path = "/v1/session", tag = "session", responses((status = 204)))]
pub(crate) async fn end(State(service): State<Arc<Service>>, headers: HeaderMap) -> Response {
    if let Some(secret) = session_cookie(&headers) {
        service.end_session(secret);
    }
    let cookie = format!("{SESSION_COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    (StatusCode::NO_CONTENT, [(SET_COOKIE, cookie)]).into_response()
}

/// Make a one-time link that signs whoever opens it in with this token's scopes.
#[utoipa::path(post, path = "/v1/sign-in-links", tag = "session",
    responses((status = 201, body = SignInLink)))]
pub(crate) async fn new_link(
    State(service): State<Arc<Service>>,
    Signed(caller): Signed,
) -> (StatusCode, Answer<SignInLink>) {
    (StatusCode::CREATED, Answer(service.sign_in_link(&caller)))
}
