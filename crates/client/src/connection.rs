//! Where Verax is, and one pool of connections to it.

use std::sync::Arc;
use std::time::Duration;

use reqwest::header::{AUTHORIZATION, HeaderMap, HeaderValue};
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use url::Url;
use verax_api::Problem;

use crate::error::ClientError;

/// Where Verax listens by default.
pub const DEFAULT_URL: &str = "http://127.0.0.1:8750";

/// How to reach Verax.
#[derive(Debug, Clone)]
pub struct ClientOptions {
    /// Its address, such as `http://127.0.0.1:8750`.
    pub url: String,
    /// The token to send; without one, little is answered.
    pub token: Option<String>,
    /// The longest time to connect.
    pub connect_timeout: Duration,
    /// The longest time for a call, live streams excepted.
    pub timeout: Duration,
}

impl Default for ClientOptions {
    fn default() -> Self {
        Self {
            url: DEFAULT_URL.into(),
            token: None,
            connect_timeout: Duration::from_secs(2),
            timeout: Duration::from_secs(30),
        }
    }
}

#[derive(Debug)]
struct Inner {
    http: reqwest::Client,
    base: Url,
    timeout: Duration,
}

/// A client of one Verax. Cloning shares its connections.
#[derive(Debug, Clone)]
pub struct Client(Arc<Inner>);

impl Client {
    /// A client with `options`. Nothing is connected yet.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] when address or token cannot be used.
    pub fn new(options: ClientOptions) -> Result<Self, ClientError> {
        let base = Url::parse(&options.url)
            .ok()
            .filter(|url| matches!(url.scheme(), "http" | "https") && url.has_host())
            .ok_or_else(|| {
                ClientError::Invalid(format!(
                    "{:?} is not an address of Verax: use something like {DEFAULT_URL}",
                    options.url
                ))
            })?;
        let mut headers = HeaderMap::new();
        if let Some(token) = &options.token {
            let field = HeaderValue::try_from(format!("Bearer {}", token.trim()));
            let mut field = field.map_err(|_| {
                ClientError::Invalid("the token has characters that no token has".into())
            })?;
            field.set_sensitive(true);
            headers.insert(AUTHORIZATION, field);
        }
        // Somebody else may have installed a provider already; either serves.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let http = reqwest::Client::builder()
            .default_headers(headers)
            .connect_timeout(options.connect_timeout)
            .tcp_nodelay(true)
            .no_proxy()
            .redirect(reqwest::redirect::Policy::none())
            .user_agent(concat!("verax-client/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| ClientError::Invalid(e.to_string()))?;
        Ok(Self(Arc::new(Inner { http, base, timeout: options.timeout })))
    }

    /// A client that reads `VERAX_URL` and `VERAX_TOKEN`.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] when one of them cannot be used.
    pub fn from_environment() -> Result<Self, ClientError> {
        let mut options = ClientOptions::default();
        if let Ok(url) = std::env::var("VERAX_URL") {
            options.url = url;
        }
        options.token = std::env::var("VERAX_TOKEN").ok().filter(|token| !token.is_empty());
        Self::new(options)
    }

    /// Where Verax is.
    pub fn url(&self) -> &Url {
        &self.0.base
    }

    /// The URL of a path whose segments are percent-encoded here.
    pub(crate) fn url_of<'s>(&self, segments: impl IntoIterator<Item = &'s str>) -> Url {
        let mut url = self.0.base.clone();
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop_if_empty().extend(segments);
        }
        url
    }

    /// A request, bounded in time.
    pub(crate) fn request(&self, method: Method, url: Url) -> RequestBuilder {
        self.0.http.request(method, url).timeout(self.0.timeout)
    }

    /// A request for a stream, which may last.
    pub(crate) fn stream_request(&self, url: Url) -> RequestBuilder {
        self.0.http.get(url)
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

    /// Sends a request; every answer is welcome.
    pub(crate) async fn send_any(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        request.send().await.map_err(|e| self.failure(&e))
    }

    pub(crate) fn failure(&self, error: &reqwest::Error) -> ClientError {
        let url = self.0.base.to_string();
        if error.is_timeout() && !error.is_connect() {
            return ClientError::TimedOut { url, milliseconds: self.0.timeout.as_millis() };
        }
        let mut reason = error.to_string();
        let mut source = std::error::Error::source(error);
        while let Some(inner) = source {
            reason = inner.to_string();
            source = inner.source();
        }
        ClientError::Unreachable { url, reason }
    }

    /// Reads the problem document of a refusal.
    pub(crate) async fn refusal(&self, response: Response) -> ClientError {
        let status = response.status();
        match response.json::<Problem>().await {
            Ok(problem) => ClientError::Refused(Box::new(problem)),
            Err(_) => ClientError::NotVerax {
                url: self.0.base.to_string(),
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
            url: self.0.base.to_string(),
            reason: format!("it answered what cannot be read: {e}"),
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
