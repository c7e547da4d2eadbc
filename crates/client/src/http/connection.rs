//! The addresses of Verax, and one pool of connections to it.

use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use reqwest::header::{AUTHORIZATION, HeaderValue};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use url::Url;
use verax_api::{FailureKind, Problem};

use crate::addresses::Addresses;
use crate::error::ClientError;
use crate::http::pinned;
use crate::token::TokenSource;
use crate::trace::TraceContext;
use crate::wire::connect::{Connector, Trust};

/// The default address of Verax.
pub const DEFAULT_URL: &str = "http://127.0.0.1:8750";

/// The default address for the wire protocol.
pub const DEFAULT_WIRE: &str = "127.0.0.1:8751";

/// The maximum number of addresses one call tries.
const MAX_TRIES: usize = 16;

/// How long sent data may stay unacknowledged by the peer's system (RFC 5482).
#[cfg(target_os = "linux")]
const UNACKNOWLEDGED_TIMEOUT: Duration = Duration::from_secs(5);

/// How to reach Verax.
#[derive(Debug, Clone)]
pub struct ClientOptions {
    /// Its address, such as `http://127.0.0.1:8750`; for a pair, several separated by commas. The
    /// client follows the active node.
    pub url: String,
    /// The address for the wire protocol, such as `127.0.0.1:8751`, or `tls://HOST:PORT`; several
    /// separated by commas.
    pub wire: String,
    /// Opens the byte streams of the wire protocol in place of `wire`: through a tunnel, or in
    /// tests.
    pub connector: Option<Arc<dyn Connector>>,
    /// A file with the certificates (PEM) to trust instead of the system's.
    pub ca: Option<PathBuf>,
    /// A file with the one certificate (PEM) the server must present: no authority is
    /// consulted, and the names in the certificate do not matter.
    pub pinned: Option<PathBuf>,
    /// Where the token comes from; without one, most requests are refused.
    pub token: Option<TokenSource>,
    /// The timeout to connect; 2 seconds by default.
    pub connect_timeout: Duration,
    /// The timeout of a call, except live streams; 30 seconds by default.
    pub timeout: Duration,
}

impl ClientOptions {
    /// What connections of the wire protocol trust.
    pub(crate) fn trust(&self) -> Trust<'_> {
        Trust { ca: self.ca.as_deref(), pinned: self.pinned.as_deref() }
    }
}

impl Default for ClientOptions {
    fn default() -> Self {
        Self {
            url: DEFAULT_URL.into(),
            wire: DEFAULT_WIRE.into(),
            connector: None,
            ca: None,
            pinned: None,
            token: None,
            connect_timeout: Duration::from_secs(2),
            timeout: Duration::from_secs(30),
        }
    }
}

impl ClientOptions {
    /// Reads `VERAX_URL`, `VERAX_WIRE_URL`, `VERAX_TOKEN` or else `VERAX_TOKEN_FILE`, and
    /// `VERAX_CA`, with defaults for the rest.
    pub fn from_environment() -> Self {
        let given = |name| std::env::var(name).ok().filter(|text| !text.is_empty());
        let defaults = Self::default();
        Self {
            url: given("VERAX_URL").unwrap_or(defaults.url),
            wire: given("VERAX_WIRE_URL").unwrap_or(defaults.wire),
            ca: given("VERAX_CA").map(PathBuf::from),
            token: match (given("VERAX_TOKEN"), given("VERAX_TOKEN_FILE")) {
                (Some(token), _) => Some(token.into()),
                (None, file) => file.map(TokenSource::file),
            },
            ..Self::default()
        }
    }
}

/// Returns the refusal of a standby, or else the response.
async fn standby(response: Response) -> Result<Box<Problem>, Response> {
    if response.status() != StatusCode::SERVICE_UNAVAILABLE {
        return Err(response);
    }
    let (status, headers) = (response.status(), response.headers().clone());
    let body = response.bytes().await.unwrap_or_default();
    match serde_json::from_slice::<Problem>(&body) {
        Ok(problem) if problem.failure() == Some(FailureKind::Standby) => Ok(Box::new(problem)),
        _ => {
            let mut whole = http::Response::new(body);
            (*whole.status_mut(), *whole.headers_mut()) = (status, headers);
            Err(whole.into())
        }
    }
}

fn certificates(path: &Path) -> Result<Vec<reqwest::Certificate>, ClientError> {
    let wrong = |reason: String| {
        ClientError::Invalid(format!("the certificates in {}: {reason}", path.display()))
    };
    let pem = std::fs::read(path).map_err(|e| wrong(e.to_string()))?;
    reqwest::Certificate::from_pem_bundle(&pem).map_err(|e| wrong(e.to_string()))
}

#[derive(Debug)]
struct Inner {
    http: reqwest::Client,
    bases: Addresses<Url>,
    timeout: Duration,
    options: ClientOptions,
}

/// Parses an address.
fn base_of(text: &str) -> Result<Url, ClientError> {
    Url::parse(text)
        .ok()
        .filter(|url| matches!(url.scheme(), "http" | "https") && url.has_host())
        .ok_or_else(|| {
            ClientError::Invalid(format!(
                "{text:?} is not an address of Verax: use something like {DEFAULT_URL}"
            ))
        })
}

/// The same resource at another address.
fn moved(url: &Url, from: &Url, to: &Url) -> Url {
    let rest = url.path().strip_prefix(from.path().trim_end_matches('/')).unwrap_or(url.path());
    let mut moved = to.clone();
    moved.set_path(&format!("{}{rest}", to.path().trim_end_matches('/')));
    moved.set_query(url.query());
    moved
}

/// A client of a node or a pair. Cloning shares its connections.
#[derive(Debug, Clone)]
pub struct Client {
    inner: Arc<Inner>,
    /// The trace that requests belong to.
    trace: Option<Arc<TraceContext>>,
}

impl Client {
    /// Creates a client with `options`. It connects on first use.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] if an address or the token is malformed.
    pub fn new(options: ClientOptions) -> Result<Self, ClientError> {
        let mut named = options.url.split(',').map(|text| base_of(text.trim()));
        let first = named.next().unwrap_or_else(|| base_of(""))?;
        let bases = Addresses::new(first, named.collect::<Result<_, _>>()?);
        options.token.as_ref().map_or(Ok(()), TokenSource::check)?;
        // Another crate may have installed a provider already; either works.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let mut builder = reqwest::Client::builder();
        if let Some(path) = &options.pinned {
            builder = builder.tls_backend_preconfigured(pinned::config(path)?);
        } else if let Some(path) = &options.ca {
            builder = builder.tls_certs_only(certificates(path)?);
        }
        #[cfg(target_os = "linux")]
        {
            // A host that is gone sends nothing, not even an acknowledgment.
            builder = builder.tcp_user_timeout(UNACKNOWLEDGED_TIMEOUT);
        }
        let http = builder
            .connect_timeout(options.connect_timeout)
            .tcp_nodelay(true)
            .no_proxy()
            .redirect(reqwest::redirect::Policy::none())
            .user_agent(concat!("verax-client/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| ClientError::Invalid(e.to_string()))?;
        let inner = Arc::new(Inner { http, bases, timeout: options.timeout, options });
        Ok(Self { inner, trace: None })
    }

    /// A client of the same addresses with another token.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] if the token is malformed.
    pub fn with_token(&self, token: impl Into<TokenSource>) -> Result<Self, ClientError> {
        Self::new(ClientOptions { token: Some(token.into()), ..self.options().clone() })
    }

    pub(crate) fn options(&self) -> &ClientOptions {
        &self.inner.options
    }

    /// Creates a client from the environment: see [`ClientOptions::from_environment`].
    ///
    /// # Errors
    /// [`ClientError::Invalid`] when one of them cannot be used.
    pub fn from_environment() -> Result<Self, ClientError> {
        Self::new(ClientOptions::from_environment())
    }

    /// The address of Verax: of several, the one that last responded.
    pub fn url(&self) -> Url {
        self.inner.bases.current()
    }

    /// The URL of a path whose segments are percent-encoded here.
    pub(crate) fn url_of<'s>(&self, segments: impl IntoIterator<Item = &'s str>) -> Url {
        let mut url = self.inner.bases.current();
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop_if_empty().extend(segments);
        }
        url
    }

    /// The same client, with requests that belong to a trace.
    pub(crate) fn traced(&self, trace: Option<TraceContext>) -> Self {
        Self { inner: Arc::clone(&self.inner), trace: trace.map(Arc::new) }
    }

    /// A request, with a timeout.
    pub(crate) fn request(&self, method: Method, url: Url) -> RequestBuilder {
        self.inner.http.request(method, url).timeout(self.inner.timeout)
    }

    /// A request to which the peer may take `wait` longer to respond.
    pub(crate) fn request_for(&self, wait: Duration, method: Method, url: Url) -> RequestBuilder {
        self.inner.http.request(method, url).timeout(self.inner.timeout + wait)
    }

    /// A request for a stream, without a timeout.
    pub(crate) fn stream_request(&self, url: Url) -> RequestBuilder {
        self.inner.http.get(url)
    }

    /// Sends a request; refusals are errors.
    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let response = self.send_any(request).await?;
        if response.status().is_success() {
            Ok(response)
        } else {
            Err(self.refusal(response).await)
        }
    }

    /// Sends a request and returns any response. An address that cannot be reached or is a standby
    /// has changed nothing, so the next one is tried. One that does not respond may have acted: the
    /// call fails, and the next call begins with another address.
    pub(crate) async fn send_any(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let mut request = request.build().map_err(|e| self.failure(&e))?;
        if let Some(token) = &self.inner.options.token {
            request.headers_mut().insert(AUTHORIZATION, token.field()?);
        }
        if let Some(trace) = &self.trace {
            let tracestate = trace.tracestate.as_deref().unwrap_or_default();
            for (name, text) in [("traceparent", &*trace.traceparent), ("tracestate", tracestate)] {
                // A malformed context is ignored, as the standard asks.
                if let Ok(field) = HeaderValue::from_str(text)
                    && !text.is_empty()
                {
                    request.headers_mut().insert(name, field);
                }
            }
        }
        let mut bases: VecDeque<Url> = self.inner.bases.in_order().into();
        let is_made_for = |base: &&Url| base.origin() == request.url().origin();
        let made_for = bases.iter().find(is_made_for).cloned();
        let made_for = made_for.unwrap_or_else(|| self.inner.bases.current());
        let (mut tried, mut outcome) = (Vec::new(), None);
        while let Some(base) = bases.pop_front() {
            if tried.contains(&base) || tried.len() == MAX_TRIES {
                continue;
            }
            let Some(mut copy) = request.try_clone() else { break };
            *copy.url_mut() = moved(request.url(), &made_for, &base);
            tried.push(base.clone());
            match self.inner.http.execute(copy).await {
                Ok(response) => match standby(response).await {
                    Err(response) => {
                        self.inner.bases.answered(&base);
                        return Ok(response);
                    }
                    Ok(problem) => {
                        let active = problem.more.get("active").and_then(|url| url.as_str());
                        let active = active.and_then(|url| base_of(url).ok());
                        // The token must not be sent without TLS if the configured address has it.
                        let safe = |url: &Url| url.scheme() == "https" || base.scheme() == "http";
                        bases.extend(active.filter(safe));
                        outcome = Some(ClientError::Refused(problem));
                    }
                },
                Err(error) if error.is_connect() => {
                    // A standby's refusal tells more.
                    outcome.get_or_insert(self.failure_at(&base, &error));
                }
                // It may have been done, so it is not sent again. The next call tries another
                // address.
                Err(error) => {
                    self.inner.bases.was_silent(&base);
                    return Err(self.failure_at(&base, &error));
                }
            }
        }
        Err(outcome.unwrap_or_else(|| ClientError::Invalid("the request cannot be sent".into())))
    }

    pub(crate) fn failure(&self, error: &reqwest::Error) -> ClientError {
        self.failure_at(&self.inner.bases.current(), error)
    }

    fn failure_at(&self, base: &Url, error: &reqwest::Error) -> ClientError {
        let url = base.to_string();
        if error.is_timeout() && !error.is_connect() {
            return ClientError::TimedOut { url, milliseconds: self.inner.timeout.as_millis() };
        }
        let mut reason = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(inner) = source {
            reason = inner.to_string();
            source = inner.source();
        }
        ClientError::Unreachable { url, reason }
    }

    /// Parses the problem document of a refusal.
    pub(crate) async fn refusal(&self, response: Response) -> ClientError {
        let status = response.status();
        match response.json::<Problem>().await {
            Ok(problem) => ClientError::Refused(Box::new(problem)),
            Err(_) => ClientError::NotVerax {
                url: self.inner.bases.current().to_string(),
                reason: format!("it answered {status} without a problem document"),
            },
        }
    }

    pub(crate) async fn json<T: DeserializeOwned>(
        &self,
        response: Response,
    ) -> Result<T, ClientError> {
        let text = response.bytes().await.map_err(|e| self.failure(&e))?;
        serde_json::from_slice(&text).map_err(|e| ClientError::NotVerax {
            url: self.inner.bases.current().to_string(),
            reason: format!("its response cannot be read: {e}"),
        })
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, url: Url) -> Result<T, ClientError> {
        let response = self.send(self.request(Method::GET, url)).await?;
        self.json(response).await
    }

    pub(crate) async fn post<T: DeserializeOwned>(
        &self,
        url: Url,
        body: &impl Serialize,
    ) -> Result<T, ClientError> {
        let response = self.send(self.request(Method::POST, url).json(body)).await?;
        self.json(response).await
    }

    pub(crate) async fn delete(&self, url: Url) -> Result<(), ClientError> {
        self.send(self.request(Method::DELETE, url)).await.map(drop)
    }
}
