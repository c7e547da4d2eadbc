//! Console sessions and sign-in links.

use std::sync::Arc;

use axum::Json as ReadResult;
use axum::extract::{Extension, Request, State};
use axum::http::header::SET_COOKIE;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use verax_api::{CreateSession, Items, LiveSession, Session, SignInLink};
use verax_control::session_of;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::{Authenticated, OverTls, OwnSession};
use crate::http::extract::{WithId, json_within};

/// Twelve hours, the lifetime of a session.
const SECONDS: u64 = 12 * 3_600;

/// The maximum size of a body from an unauthenticated caller, in bytes.
const MAX_BODY: usize = 4 << 10;

/// Start a console session, with the code of a sign-in link or with a token.
#[cfg_attr(test, utoipa::path(post, path = "/v1/session", tag = "session", security(()), request_body = CreateSession,
    responses((status = 201, body = Session), (status = 401, body = verax_api::Problem))))]
pub(crate) async fn start(
    State(service): State<Arc<Service>>,
    Extension(over): Extension<OverTls>,
    request: Request,
) -> Result<Response> {
    let by: CreateSession = json_within(request, MAX_BODY).await?;
    let (secret, session) = service.control().start_session(&by)?;
    let cookie = over.cookie(&secret, SECONDS);
    Ok((StatusCode::CREATED, [(SET_COOKIE, cookie)], ReadResult(session)).into_response())
}

/// Show who is signed in.
#[cfg_attr(test, utoipa::path(get, path = "/v1/session", tag = "session",
    responses((status = 200, body = Session), (status = 401, body = verax_api::Problem))))]
pub(crate) async fn show(Authenticated(caller): Authenticated) -> ReadResult<Session> {
    ReadResult(session_of(&caller))
}

/// End the console session.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/session", tag = "session", responses((status = 204))))]
pub(crate) async fn end(
    State(service): State<Arc<Service>>,
    Extension(over): Extension<OverTls>,
    headers: HeaderMap,
) -> Response {
    if let Some(secret) = over.session(&headers) {
        service.control().end_session(secret);
    }
    let cookie = over.cookie("", 0);
    (StatusCode::NO_CONTENT, [(SET_COOKIE, cookie)]).into_response()
}

/// List the live console sessions: all of them for an administrator, else those of one's own token.
#[cfg_attr(test, utoipa::path(get, path = "/v1/sessions", tag = "session",
    responses((status = 200, body = Items<LiveSession>))))]
pub(crate) async fn list(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    OwnSession(own): OwnSession,
) -> ReadResult<Items<LiveSession>> {
    ReadResult(Items { items: service.control().sessions(&caller, own) })
}

/// End a console session by its number.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/sessions/{id}", tag = "session",
    params(("id" = u64, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn end_other(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<StatusCode> {
    service.control().end_session_by_id(&caller, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Create a one-time link that signs its opener in with this token's scopes.
#[cfg_attr(test, utoipa::path(post, path = "/v1/sign-in-links", tag = "session",
    responses((status = 201, body = SignInLink))))]
pub(crate) async fn new_link(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
) -> Result<(StatusCode, ReadResult<SignInLink>)> {
    Ok((StatusCode::CREATED, ReadResult(service.control().sign_in_link(&caller)?)))
}
