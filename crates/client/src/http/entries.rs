//! Entries of one namespace.

use bytes::Bytes;
use reqwest::header::{CACHE_CONTROL, CONTENT_TYPE, IF_MATCH, IF_NONE_MATCH};
use reqwest::{Method, RequestBuilder, Response};
use url::Url;
use verax_api::{FailureKind, Removal};

use crate::error::ClientError;
use crate::http::answer::ReadResult;
use crate::http::connection::Client;
use crate::lookup::{Lookup, ReadOptions};
use crate::options::{LifetimeOptions, PutCondition, PutOptions};
use crate::trace::TraceContext;

/// A copy within its stale-if-error time, however long it has been stale (RFC 5861).
const STALE_IF_ERROR: &str = "stale-if-error=315360000";

/// A handle on one namespace of one tenant.
#[derive(Debug, Clone)]
pub struct Namespace {
    client: Client,
    base: Url,
}

impl Client {
    /// Returns a handle on a namespace, without a request.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] when a name cannot be one.
    pub fn namespace(&self, tenant: &str, name: &str) -> Result<Namespace, ClientError> {
        for part in [tenant, name] {
            let plain = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
            if part.is_empty() || !part.bytes().all(plain) {
                return Err(ClientError::Invalid(format!(
                    "{part:?} is not a name: use lower-case letters, digits and hyphens"
                )));
            }
        }
        let base = self.url_of(["v1", "tenants", tenant, "namespaces", name]);
        Ok(Namespace { client: self.clone(), base })
    }
}

impl Namespace {
    pub(crate) fn below(&self, segments: &[&str]) -> Url {
        let mut url = self.base.clone();
        if let Ok(mut path) = url.path_segments_mut() {
            path.extend(segments);
        }
        url
    }

    pub(crate) fn of_key(&self, kind: &str, key: &str) -> Result<Url, ClientError> {
        match key {
            "" => Err(ClientError::Invalid("the key is empty".into())),
            // URLs cannot have these two as a segment, in any encoding.
            "." | ".." => {
                Err(ClientError::Invalid(format!("the key {key:?} cannot be put in a URL")))
            }
            _ => Ok(self.below(&[kind, key])),
        }
    }

    /// Gets an entry; if the namespace has an origin, a miss reads it through. `None` is a miss or
    /// a negative entry; [`look_up`](Self::look_up) distinguishes them.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn get(&self, key: &str) -> Result<Option<ReadResult>, ClientError> {
        Ok(self.look_up(key, ReadOptions::default()).await?.found())
    }

    /// Gets an entry with options.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn look_up(
        &self,
        key: &str,
        options: ReadOptions,
    ) -> Result<Lookup<ReadResult>, ClientError> {
        let mut request = self.client.request(Method::GET, self.of_key("entries", key)?);
        let directives = [
            (options.refresh, "no-cache"),
            (options.only_if_cached, "only-if-cached"),
            (options.stale_if_error, STALE_IF_ERROR),
        ];
        let set = directives.into_iter().filter(|(set, _)| *set).map(|(_, name)| name);
        let set = set.collect::<Vec<_>>().join(", ");
        if !set.is_empty() {
            request = request.header(CACHE_CONTROL, set);
        }
        let response = self.client.send_any(request).await?;
        if response.status().as_u16() != 200 {
            return self.absent(response).await;
        }
        Ok(Lookup::Found(self.value_of(response).await?))
    }

    /// The value of a response.
    pub(crate) async fn value_of(&self, response: Response) -> Result<ReadResult, ClientError> {
        let headers = response.headers().clone();
        let value = response.bytes().await.map_err(|e| self.client.failure(&e))?;
        ReadResult::of(&headers, value).ok_or_else(|| ClientError::NotVerax {
            url: self.base.to_string(),
            reason: "its response has no Cache-Status".into(),
        })
    }

    async fn absent(&self, response: Response) -> Result<Lookup<ReadResult>, ClientError> {
        let error = self.client.refusal(response).await;
        match error.failure() {
            Some(FailureKind::Miss) => Ok(Lookup::Miss),
            Some(FailureKind::NoValue) => Ok(Lookup::NoValue),
            _ => Err(error),
        }
    }

    /// Stores a value; returns whether it replaced one.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `condition-failed` if the condition does not hold.
    pub async fn put(
        &self,
        key: &str,
        value: impl Into<Bytes>,
        options: PutOptions,
    ) -> Result<bool, ClientError> {
        let request =
            self.client.request(Method::PUT, self.of_key("entries", key)?).body(value.into());
        let response = self.client.send(with_options(request, options)).await?;
        Ok(response.status().as_u16() == 204)
    }

    /// Deletes an entry; returns whether it existed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete(&self, key: &str) -> Result<bool, ClientError> {
        let request = self.client.request(Method::DELETE, self.of_key("entries", key)?);
        let response = self.client.send(request).await?;
        Ok(response.headers().get("verax-deleted").is_some_and(|deleted| deleted == "?1"))
    }

    /// Removes every entry; returns the number removed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn clear(&self) -> Result<u64, ClientError> {
        self.clear_at(self.below(&["entries"])).await
    }

    /// Removes the entries whose keys start with `prefix`, which must not be empty; returns the
    /// number removed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn clear_prefix(&self, prefix: &str) -> Result<u64, ClientError> {
        let mut url = self.below(&["entries"]);
        url.query_pairs_mut().append_pair("prefix", prefix);
        self.clear_at(url).await
    }

    async fn clear_at(&self, url: Url) -> Result<u64, ClientError> {
        let response = self.client.send(self.client.request(Method::DELETE, url)).await?;
        Ok(self.client.json::<Removal>(response).await?.entries)
    }

    /// The same namespace, with requests that belong to a trace.
    pub(crate) fn traced(&self, trace: Option<TraceContext>) -> Self {
        Self { client: self.client.traced(trace), base: self.base.clone() }
    }

    pub(crate) fn client(&self) -> &Client {
        &self.client
    }

    pub(crate) fn base(&self) -> &Url {
        &self.base
    }
}

pub(crate) fn with_options(mut request: RequestBuilder, options: PutOptions) -> RequestBuilder {
    let media_type = options.media_type.as_deref().unwrap_or("application/octet-stream");
    request = request.header(CONTENT_TYPE, media_type);
    let lifetime = LifetimeOptions {
        max_age: options.max_age,
        stale_while_revalidate: options.stale_while_revalidate,
        stale_if_error: options.stale_if_error,
    };
    if let Some(field) = lifetime.field() {
        request = request.header(CACHE_CONTROL, field);
    }
    if !options.tags.is_empty() {
        let quoted =
            |tag: &String| format!("\"{}\"", tag.replace('\\', "\\\\").replace('"', "\\\""));
        let tags: Vec<String> = options.tags.iter().map(quoted).collect();
        request = request.header("cache-groups", tags.join(", "));
    }
    match options.condition {
        PutCondition::Always => request,
        PutCondition::IfAbsent => request.header(IF_NONE_MATCH, "*"),
        PutCondition::IfMatches(tag) => request.header(IF_MATCH, tag),
        PutCondition::IfRevision(revision) => request.header("verax-if-revision", revision),
    }
}
