//! Reading from the servers of an HTTP origin, and writing to them.

use std::error::Error as _;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use futures_util::StreamExt;
use reqwest::header::{AUTHORIZATION, CACHE_CONTROL, CONTENT_TYPE, HeaderValue};
use reqwest::{Client, RequestBuilder, Response, redirect};
use url::Url;
use verax_core::OriginSettings;
use verax_core::origin::OriginSource;

use super::template::{InvalidTemplate, UrlTemplate};
use crate::credentials::{CredentialError, Secret};
use crate::error::OriginError;
use crate::value::{OriginValue, OriginWrite, TraceContext};

/// The maximum memory reserved for a body before it arrives, in bytes.
const MAX_AHEAD: usize = 256 << 10;

/// The maximum length of a replica's address, in bytes.
const MAX_ADDRESS_BYTES: usize = 300;

/// An HTTP service with its pool of connections.
#[derive(Debug)]
pub struct HttpReader {
    template: UrlTemplate,
    servers: Vec<Url>,
    client: Client,
    secret: Option<Secret>,
    pub(super) total_timeout: Duration,
    max_response_bytes: u64,
    pub(super) listings: Vec<String>,
}

/// A response.
pub(super) struct Page {
    pub(super) value: OriginValue,
    /// Its `Link` field.
    pub(super) link: Option<String>,
}

/// The address of a replica.
fn server(text: &str) -> Result<Url, InvalidTemplate> {
    let bad = || InvalidTemplate::Server(text.chars().take(MAX_ADDRESS_BYTES).collect());
    let url = Url::parse(text).map_err(|_| bad())?;
    let plain = matches!(url.scheme(), "http" | "https")
        && url.path() == "/"
        && url.query().is_none()
        && url.fragment().is_none()
        && url.username().is_empty()
        && url.password().is_none()
        && text.len() <= MAX_ADDRESS_BYTES
        && !text.contains(['{', '}']);
    if plain { Ok(url) } else { Err(bad()) }
}

impl HttpReader {
    pub(crate) fn new(
        settings: &OriginSettings,
        secret: Option<Secret>,
    ) -> Result<Self, InvalidTemplate> {
        let template = UrlTemplate::parse(settings.url())?;
        let mut servers = vec![template.base().clone()];
        if let OriginSource::Http { endpoints, .. } = &settings.source {
            for text in endpoints {
                let url = server(text)?;
                if servers.contains(&url) {
                    return Err(InvalidTemplate::Twice(text.clone()));
                }
                servers.push(url);
            }
        }
        // Another crate may have installed a provider already; either works.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let client = Client::builder()
            .connect_timeout(settings.connect_timeout)
            // A redirect could lead to a server that is not configured.
            .redirect(redirect::Policy::none())
            .tcp_nodelay(true)
            .user_agent(concat!("verax/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| InvalidTemplate::Syntax {
                url: settings.url().to_owned(),
                reason: reason_of(&e),
            })?;
        let (total_timeout, max_response_bytes) =
            (settings.total_timeout, settings.max_response_bytes);
        let listings = settings.listings.clone();
        Ok(Self { template, servers, client, secret, total_timeout, max_response_bytes, listings })
    }

    /// Its servers, by number.
    pub(crate) fn servers(&self) -> &[Url] {
        &self.servers
    }

    /// The URL of a key's values.
    ///
    /// # Errors
    /// [`OriginError::KeyMismatch`].
    pub fn url_of(&self, values: &[(&str, &str)]) -> Result<Url, OriginError> {
        self.template.expand(values).map_err(OriginError::KeyMismatch)
    }

    /// The URL of a reference on this origin's server.
    ///
    /// # Errors
    /// [`OriginError::KeyMismatch`] when it leads elsewhere.
    pub fn url_on(&self, reference: &str) -> Result<Url, OriginError> {
        let base = self.template.base();
        match base.join(reference) {
            Ok(url) if url.origin() == base.origin() => Ok(url),
            Ok(url) => {
                Err(OriginError::KeyMismatch(format!("{url} is not on the origin's server {base}")))
            }
            Err(error) => Err(OriginError::KeyMismatch(format!("{reference:?}: {error}"))),
        }
    }

    /// The variables of its URL template.
    pub fn variables(&self) -> Vec<String> {
        self.template.variables()
    }

    /// Checks that a key makes a URL, and the secret is readable.
    pub(crate) async fn check(&self, values: &[(&str, &str)]) -> Result<(), OriginError> {
        self.url_of(values)?;
        self.authorization().await.map(drop)
    }

    /// The `Authorization` header field.
    async fn authorization(&self) -> Result<Option<HeaderValue>, OriginError> {
        let Some(secret) = &self.secret else { return Ok(None) };
        let text = secret.read().await?;
        let mut field = HeaderValue::from_str(&text).map_err(|_| {
            let reason =
                "it is not a value for the field Authorization: use one line of plain text";
            let name = secret.name().clone();
            OriginError::Credential(CredentialError { name, reason: reason.into() })
        })?;
        field.set_sensitive(true);
        Ok(Some(field))
    }

    /// A URL on the server with a number.
    fn url_at(&self, server: usize, values: &[(&str, &str)]) -> Result<Url, OriginError> {
        let mut url = self.url_of(values)?;
        if let Some(server) = self.servers.get(server).filter(|_| server > 0) {
            // None of these can fail from one http URL with a host to another.
            let _ = url.set_scheme(server.scheme());
            let _ = url.set_host(server.host_str());
            let _ = url.set_port(server.port());
        }
        Ok(url)
    }

    /// Completes a request with the secret, the caller's trace context, and a timeout.
    async fn sent(
        &self,
        mut request: RequestBuilder,
        url: &Url,
        trace: Option<&TraceContext>,
        deadline: Instant,
    ) -> Result<Response, OriginError> {
        if let Some(field) = self.authorization().await? {
            request = request.header(AUTHORIZATION, field);
        }
        if let Some(trace) = trace {
            request = request.header("traceparent", &trace.traceparent);
            if let Some(state) = &trace.tracestate {
                request = request.header("tracestate", state);
            }
        }
        let left = deadline.saturating_duration_since(Instant::now());
        request.timeout(left).send().await.map_err(|e| self.error_of(url, &e))
    }

    /// Reads the value of a key from the server with a number.
    pub(crate) async fn read_at(
        &self,
        server: usize,
        values: &[(&str, &str)],
        trace: Option<&TraceContext>,
        deadline: Instant,
    ) -> Result<OriginValue, OriginError> {
        let page = self.read_page(self.url_at(server, values)?, trace, deadline).await?;
        Ok(page.value)
    }

    /// Writes a change to the server with a number.
    pub(crate) async fn write_at(
        &self,
        server: usize,
        values: &[(&str, &str)],
        write: OriginWrite<'_>,
        trace: Option<&TraceContext>,
        deadline: Instant,
    ) -> Result<(), OriginError> {
        let url = self.url_at(server, values)?;
        let request = match write {
            OriginWrite::Put { value, media_type } => self
                .client
                .put(url.clone())
                .header(CONTENT_TYPE, media_type)
                .body(Bytes::clone(value)),
            OriginWrite::Delete => self.client.delete(url.clone()),
        };
        let response = self.sent(request, &url, trace, deadline).await?;
        let status = response.status().as_u16();
        let gone = matches!(write, OriginWrite::Delete) && matches!(status, 404 | 410);
        match response.status().is_success() || gone {
            true => Ok(()),
            false => Err(OriginError::Status { url: url.into(), status }),
        }
    }

    /// Reads a URL, and the `Link` field of its response.
    pub(super) async fn read_page(
        &self,
        url: Url,
        trace: Option<&TraceContext>,
        deadline: Instant,
    ) -> Result<Page, OriginError> {
        let started = Instant::now();
        let request = self.client.get(url.clone());
        let response = self.sent(request, &url, trace, deadline).await?;
        let status = response.status().as_u16();
        if matches!(status, 404 | 410) {
            return Err(OriginError::NoValue { url: url.into(), status: Some(status) });
        }
        if !response.status().is_success() {
            return Err(OriginError::Status { url: url.into(), status });
        }
        let text = |name| {
            let value = response.headers().get(name)?;
            value.to_str().ok().map(str::to_owned)
        };
        // All lines of a list-based field count (RFC 9110, section 5.3).
        let list = |name| {
            let lines = response.headers().get_all(name).iter();
            lines.filter_map(|line| line.to_str().ok()).collect::<Vec<_>>().join(", ")
        };
        let media_type = text(CONTENT_TYPE.as_str());
        let cache_groups = Some(list("cache-groups")).filter(|groups| !groups.is_empty());
        let control = list(CACHE_CONTROL.as_str());
        let link = Some(list("link")).filter(|links| !links.is_empty());
        let value = self.body(&url, response).await?;
        let value = OriginValue {
            value,
            media_type: media_type.unwrap_or_else(|| "application/octet-stream".into()),
            cache_groups,
            // Regardless of the rest of the field, readable or not.
            no_store: control.split(',').any(|part| part.trim().eq_ignore_ascii_case("no-store")),
            took: started.elapsed(),
        };
        Ok(Page { value, link })
    }

    async fn body(&self, url: &Url, response: Response) -> Result<Bytes, OriginError> {
        let limit = self.max_response_bytes;
        let too_large = || OriginError::TooLarge { url: url.to_string(), limit };
        let announced = response.content_length().unwrap_or(0);
        if announced > limit {
            return Err(too_large());
        }
        // An announced length costs memory only as it arrives.
        let mut body = BytesMut::with_capacity((announced as usize).min(MAX_AHEAD));
        let mut chunks = response.bytes_stream();
        while let Some(chunk) = chunks.next().await {
            let chunk = chunk.map_err(|e| self.error_of(url, &e))?;
            if (body.len() + chunk.len()) as u64 > limit {
                return Err(too_large());
            }
            body.extend_from_slice(&chunk);
        }
        Ok(body.freeze())
    }

    fn error_of(&self, url: &Url, error: &reqwest::Error) -> OriginError {
        let url = url.to_string();
        // A connect timeout is both; the connection matters.
        if error.is_connect() {
            OriginError::Connect { url, reason: reason_of(error) }
        } else if error.is_timeout() {
            OriginError::Timeout { url, limit: self.total_timeout }
        } else {
            OriginError::Garbled { url, reason: reason_of(error) }
        }
    }
}

/// The innermost cause, which is the most specific.
fn reason_of(error: &reqwest::Error) -> String {
    let mut innermost: &dyn std::error::Error = error;
    while let Some(source) = innermost.source() {
        innermost = source;
    }
    match error.source() {
        Some(_) => innermost.to_string(),
        None => error.to_string(),
    }
}
