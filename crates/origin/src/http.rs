//! An origin that is an HTTP service.

use std::error::Error as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use futures_util::StreamExt;
use reqwest::header::{CACHE_CONTROL, CONTENT_TYPE};
use reqwest::{Client, Response, redirect};
use url::Url;
use verax_core::OriginSettings;
use verax_core::lifetime::CacheControl;

use crate::error::OriginError;
use crate::gate::{Gate, GateState};
use crate::template::{InvalidTemplate, UrlTemplate};

/// What an origin answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginValue {
    /// The value's bytes.
    pub value: Bytes,
    /// Its media type; `application/octet-stream` when the origin names none.
    pub media_type: String,
    /// Tags from `Cache-Groups` (RFC 9875), as written.
    pub cache_groups: Option<String>,
    /// Whether the origin forbids storing it (`Cache-Control: no-store`).
    pub no_store: bool,
    /// From asking to the last byte.
    pub took: Duration,
}

/// A caller's trace context (W3C Trace Context), as it came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TraceContext {
    /// The `traceparent` field.
    pub traceparent: String,
    /// The `tracestate` field.
    pub tracestate: Option<String>,
}

/// An HTTP origin with its pool of connections.
#[derive(Debug, Clone)]
pub struct HttpOrigin {
    template: UrlTemplate,
    client: Client,
    gate: Arc<Gate>,
    total_timeout: Duration,
    largest_response: u64,
}

impl HttpOrigin {
    /// An origin with `settings`. Nothing is connected yet.
    ///
    /// # Errors
    /// [`InvalidTemplate`] when its URL is not a template that can be read.
    pub fn new(settings: &OriginSettings) -> Result<Self, InvalidTemplate> {
        let template = UrlTemplate::parse(&settings.url)?;
        // Somebody else may have installed a provider already; either serves.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let client = Client::builder()
            .connect_timeout(settings.connect_timeout)
            .timeout(settings.total_timeout)
            // A redirect could lead to a server that nobody configured.
            .redirect(redirect::Policy::none())
            .tcp_nodelay(true)
            .user_agent(concat!("verax/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| InvalidTemplate::Syntax {
                url: settings.url.clone(),
                reason: reason_of(&e),
            })?;
        let (total_timeout, largest_response) = (settings.total_timeout, settings.largest_response);
        let gate = Arc::default();
        Ok(Self { template, client, gate, total_timeout, largest_response })
    }

    /// The URL that the values of a key make.
    ///
    /// # Errors
    /// [`OriginError::NoUrl`].
    pub fn url_of(&self, values: &[(&str, &str)]) -> Result<Url, OriginError> {
        self.template.expand(values).map_err(OriginError::NoUrl)
    }

    /// The URL of a reference that stays on this origin's server.
    ///
    /// # Errors
    /// [`OriginError::NoUrl`] when it leads elsewhere.
    pub fn url_on(&self, reference: &str) -> Result<Url, OriginError> {
        let base = self.template.base();
        match base.join(reference) {
            Ok(url) if url.origin() == base.origin() => Ok(url),
            Ok(url) => {
                Err(OriginError::NoUrl(format!("{url} is not on the origin's server {base}")))
            }
            Err(error) => Err(OriginError::NoUrl(format!("{reference:?}: {error}"))),
        }
    }

    /// The longest time from asking to the last byte.
    pub fn total_timeout(&self) -> Duration {
        self.total_timeout
    }

    /// The names that its URL template takes values for.
    pub fn variables(&self) -> Vec<String> {
        self.template.variables()
    }

    /// Reads the value that the values of a key stand for.
    ///
    /// # Errors
    /// [`OriginError`] says what went wrong, and where.
    pub async fn read(
        &self,
        values: &[(&str, &str)],
        trace: Option<&TraceContext>,
    ) -> Result<OriginValue, OriginError> {
        self.read_url(self.url_of(values)?, trace).await
    }

    /// [`read`](Self::read) past what guards the origin: a bound on calls at once with a bounded queue,
    /// and a circuit breaker.
    ///
    /// # Errors
    /// [`OriginError`]; [`OriginError::SetAside`] and [`OriginError::Busy`] when it was not asked.
    pub async fn read_guarded(
        &self,
        values: &[(&str, &str)],
        trace: Option<&TraceContext>,
    ) -> Result<OriginValue, OriginError> {
        // A key that makes no URL says nothing about the origin.
        let url = self.url_of(values)?;
        let pass = self.gate.enter().await?;
        let outcome = self.read_url(url, trace).await;
        pass.ended(&outcome);
        outcome
    }

    /// What its breaker does, and how many calls are under way and waiting.
    pub fn gate(&self) -> GateState {
        self.gate.state()
    }

    /// Reads a URL of this origin, passing the caller's trace context on.
    ///
    /// # Errors
    /// [`OriginError`] says what went wrong, and where.
    pub async fn read_url(
        &self,
        url: Url,
        trace: Option<&TraceContext>,
    ) -> Result<OriginValue, OriginError> {
        let started = Instant::now();
        let mut request = self.client.get(url.clone());
        if let Some(trace) = trace {
            request = request.header("traceparent", &trace.traceparent);
            if let Some(state) = &trace.tracestate {
                request = request.header("tracestate", state);
            }
        }
        let response = request.send().await.map_err(|e| self.error_of(&url, &e))?;
        let status = response.status().as_u16();
        if matches!(status, 404 | 410) {
            return Err(OriginError::NoValue { url: url.into(), status });
        }
        if !response.status().is_success() {
            return Err(OriginError::Status { url: url.into(), status });
        }
        let text = |name| {
            let value = response.headers().get(name)?;
            value.to_str().ok().map(str::to_owned)
        };
        let media_type = text(CONTENT_TYPE.as_str());
        let cache_groups = text("cache-groups");
        let control = text(CACHE_CONTROL.as_str());
        let value = self.body(&url, response).await?;
        Ok(OriginValue {
            value,
            media_type: media_type.unwrap_or_else(|| "application/octet-stream".into()),
            cache_groups,
            // A malformed field forbids nothing.
            no_store: control.is_some_and(|c| CacheControl::parse(&c).is_ok_and(|c| c.no_store)),
            took: started.elapsed(),
        })
    }

    async fn body(&self, url: &Url, response: Response) -> Result<Bytes, OriginError> {
        let limit = self.largest_response;
        let too_large = || OriginError::TooLarge { url: url.to_string(), limit };
        let announced = response.content_length().unwrap_or(0);
        if announced > limit {
            return Err(too_large());
        }
        let mut body = BytesMut::with_capacity(announced as usize);
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
        // A connect time-out is both; the connection is what to look at.
        if error.is_connect() {
            OriginError::Connect { url, reason: reason_of(error) }
        } else if error.is_timeout() {
            OriginError::Timeout { url, limit: self.total_timeout }
        } else {
            OriginError::Garbled { url, reason: reason_of(error) }
        }
    }
}

/// The innermost cause, which says more than the layers around it.
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
