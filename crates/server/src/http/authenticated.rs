//! Authenticates requests: by a bearer token (RFC 6750) or the console's session cookie.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::{FromRequestParts, Request};
use axum::http::header::{AUTHORIZATION, COOKIE};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method};
use verax_control::ControlError;
use verax_control::access::{Caller, ConsoleSession};
use verax_service::Service;

use crate::failure::Failure;

/// The cookie of a console session. Over TLS its name has the prefix with which browsers guarantee
/// that no other host or plain connection set it (RFC 6265bis, section 4.1.3.2).
const COOKIE_NAME: &str = "verax_session";
const SECURE_COOKIE_NAME: &str = "__Host-verax_session";

/// A header field the console adds to changes. Another site cannot make a browser send it with the
/// cookie, as it could with a form.
const CONSOLE_FIELD: &str = "verax-console";

/// Where a request came from, as browsers declare it (Fetch Metadata, W3C).
const FETCH_SITE: &str = "sec-fetch-site";
const FETCH_DESTINATION: &str = "sec-fetch-dest";

/// An authenticated request.
#[derive(Debug, Clone)]
pub(crate) struct Authenticated(pub(crate) Arc<Caller>);

/// The number of the console session that a request comes from; `None` with a token.
#[derive(Debug, Clone, Copy)]
pub(crate) struct OwnSession(pub(crate) Option<u64>);

/// Whether requests come over TLS; a request extension.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct OverTls(pub(crate) bool);

impl OverTls {
    /// The name of the session's cookie.
    fn cookie_name(self) -> &'static str {
        if self.0 { SECURE_COOKIE_NAME } else { COOKIE_NAME }
    }

    /// A `Set-Cookie` field with a session's secret and its lifetime in seconds.
    pub(crate) fn cookie(self, secret: &str, seconds: u64) -> String {
        let (name, secure) = (self.cookie_name(), if self.0 { "; Secure" } else { "" });
        format!("{name}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}")
    }

    /// The session secret of a request.
    pub(crate) fn session(self, headers: &HeaderMap) -> Option<&str> {
        headers
            .get_all(COOKIE)
            .iter()
            .filter_map(|field| field.to_str().ok())
            .flat_map(|field| field.split(';'))
            .find_map(|pair| pair.trim().strip_prefix(self.cookie_name())?.strip_prefix('='))
    }
}

/// The token of an Authorization field.
pub(crate) fn bearer(field: &HeaderValue) -> Option<&str> {
    let (scheme, token) = field.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
}

/// The access of a request: its caller, and what ends it.
#[derive(Debug, Clone)]
pub(crate) struct Access {
    caller: Arc<Caller>,
    session: Option<(ConsoleSession, Duration)>,
}

impl Access {
    /// Authenticates a request; fails if it has no access.
    pub(crate) fn of(request: &Request, service: &Service) -> Result<Self, ControlError> {
        let headers = request.headers();
        if let Some(field) = headers.get(AUTHORIZATION) {
            let token = bearer(field).ok_or(ControlError::NotSignedIn(
                "the Authorization field is not `Bearer TOKEN`",
            ))?;
            return Ok(Self { caller: service.control().token_caller(token)?, session: None });
        }
        let over = request.extensions().get().copied().unwrap_or(OverTls(false));
        let secret = over.session(headers).ok_or(ControlError::NotSignedIn(
            "no token was sent: send `Authorization: Bearer TOKEN`, or set VERAX_TOKEN for the CLI",
        ))?;
        let (caller, session) = service.control().session_caller(secret)?;
        if !is_of_console(request) {
            return Err(ControlError::NotSignedIn(
                "a session is only for the console's own requests: send a token",
            ));
        }
        let left = session.time_left(service.engine().now());
        Ok(Self { caller, session: Some((session, left)) })
    }

    /// Whether it is a console session, rather than a token.
    pub(crate) fn is_session(&self) -> bool {
        self.session.is_some()
    }

    pub(crate) fn caller(&self) -> &Arc<Caller> {
        &self.caller
    }

    /// Waits until it ends, by revocation, sign-out or expiry.
    pub(crate) async fn ended(self) {
        match &self.session {
            None => self.caller.signal().ended().await,
            Some((session, left)) => tokio::select! {
                () = self.caller.signal().ended() => {}
                () = session.signal().ended() => {}
                () = tokio::time::sleep(*left) => {}
            },
        }
    }
}

/// Whether the console itself makes a request. A stored value shown as a page, or a page of another
/// site, must not use the session.
fn is_of_console(request: &Request) -> bool {
    let headers = request.headers();
    let says = |name: &str, value: &str| headers.get(name).map(|field| field == value);
    let marked = headers.contains_key(CONSOLE_FIELD);
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    match says(FETCH_SITE, "same-origin") {
        Some(same) => same && says(FETCH_DESTINATION, "empty") == Some(true) && (reads || marked),
        // Browsers omit these fields without TLS, except on loopback.
        None => marked || (reads && !request.uri().path().contains("/entries")),
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Authenticated {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        // Determined once per request, before routing.
        match parts.extensions.get::<Result<Access, ControlError>>() {
            Some(Ok(access)) => Ok(Self(Arc::clone(access.caller()))),
            Some(Err(error)) => Err(error.clone().into()),
            None => Err(ControlError::NotSignedIn("nobody is known to make this request").into()),
        }
    }
}

impl<S: Send + Sync> FromRequestParts<S> for OwnSession {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let access = parts.extensions.get::<Result<Access, ControlError>>();
        let session = access.and_then(|access| access.as_ref().ok()?.session.as_ref());
        Ok(Self(session.map(|(session, _)| session.id())))
    }
}

#[cfg(test)]
mod tests {
    use axum::body::Body;
    use rstest::rstest;

    use super::*;

    const VALUE: &str = "/v1/tenants/a/namespaces/b/entries/c";

    #[rstest]
    #[case("GET", "/v1/tenants", &[("sec-fetch-site", "same-origin"), ("sec-fetch-dest", "empty")], true)]
    #[case("GET", VALUE, &[("sec-fetch-site", "same-origin"), ("sec-fetch-dest", "empty")], true)]
    #[case("GET", VALUE, &[("sec-fetch-site", "none"), ("sec-fetch-dest", "document")], false)]
    #[case("GET", VALUE, &[("sec-fetch-site", "same-origin"), ("sec-fetch-dest", "document")], false)]
    #[case("GET", VALUE, &[("sec-fetch-site", "same-origin"), ("sec-fetch-dest", "iframe")], false)]
    #[case("GET", VALUE, &[("sec-fetch-site", "cross-site"), ("sec-fetch-dest", "empty")], false)]
    #[case("GET", VALUE, &[], false)]
    #[case("GET", VALUE, &[("verax-console", "1")], true)]
    #[case("GET", "/v1/live", &[], true)]
    #[case("POST", "/v1/tokens", &[("sec-fetch-site", "same-origin"), ("sec-fetch-dest", "empty")], false)]
    #[case("POST", "/v1/tokens", &[("verax-console", "1"), ("sec-fetch-site", "cross-site")], false)]
    #[case("POST", "/v1/tokens", &[("verax-console", "1"), ("sec-fetch-site", "same-origin"), ("sec-fetch-dest", "empty")], true)]
    fn a_session_serves_the_consoles_own_requests_alone(
        #[case] method: &str,
        #[case] path: &str,
        #[case] fields: &[(&str, &str)],
        #[case] allowed: bool,
    ) {
        let mut request = Request::builder().method(method).uri(path);
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        assert_eq!(is_of_console(&request.body(Body::empty()).unwrap()), allowed);
    }

    #[test]
    fn the_session_cookie_is_secure_under_tls() {
        let cookie = OverTls(true).cookie("abc", 60);
        assert!(cookie.starts_with("__Host-verax_session=abc; Path=/;"), "{cookie}");
        assert!(cookie.contains("; Secure") && cookie.contains("; HttpOnly"), "{cookie}");
        let mut headers = HeaderMap::new();
        headers.insert(COOKIE, HeaderValue::from_static("a=b; verax_session=plain"));
        assert_eq!(OverTls(true).session(&headers), None, "a plain cookie could be anybody's");
        assert_eq!(OverTls(false).session(&headers), Some("plain"));
    }
}
