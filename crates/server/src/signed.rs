//! Who makes a request: a bearer token (RFC 6750), or the console's session cookie.

use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::header::{AUTHORIZATION, COOKIE};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method};
use verax_service::access::Caller;
use verax_service::{Service, ServiceError};

use crate::problem::Failure;

/// The cookie that carries a console session.
pub(crate) const SESSION_COOKIE: &str = "verax_session";

/// A field that the console adds to what it changes. Another site cannot make a browser send it
/// along with the cookie, which a form could otherwise do.
const CONSOLE_FIELD: &str = "verax-console";

/// A request that somebody known makes.
#[derive(Debug, Clone)]
pub(crate) struct Signed(pub(crate) Arc<Caller>);

pub(crate) fn session_cookie(headers: &HeaderMap) -> Option<&str> {
    headers
        .get_all(COOKIE)
        .iter()
        .filter_map(|field| field.to_str().ok())
        .flat_map(|field| field.split(';'))
        .find_map(|pair| pair.trim().strip_prefix(SESSION_COOKIE)?.strip_prefix('='))
}

/// The token of an Authorization field.
pub(crate) fn bearer(field: &HeaderValue) -> Option<&str> {
    let (scheme, token) = field.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
}

fn caller(parts: &Parts, service: &Service) -> Result<Arc<Caller>, ServiceError> {
    if let Some(field) = parts.headers.get(AUTHORIZATION) {
        let token = bearer(field)
            .ok_or(ServiceError::NotSignedIn("the Authorization field is not `Bearer TOKEN`"))?;
        return service.token_caller(token);
    }
    let session = session_cookie(&parts.headers).ok_or(ServiceError::NotSignedIn(
        "no token was sent: send `Authorization: Bearer TOKEN`, or set VERAX_TOKEN for the CLI",
    ))?;
    let caller = service.session_caller(session)?;
    let reads = matches!(parts.method, Method::GET | Method::HEAD);
    if !reads && !parts.headers.contains_key(CONSOLE_FIELD) {
        return Err(ServiceError::NotSignedIn(
            "a session alone cannot change anything: send a token, or the field Verax-Console",
        ));
    }
    Ok(caller)
}

impl FromRequestParts<Arc<Service>> for Signed {
    type Rejection = Failure;

    async fn from_request_parts(
        parts: &mut Parts,
        service: &Arc<Service>,
    ) -> Result<Self, Failure> {
        Ok(Signed(caller(parts, service)?))
    }
}
