//! One entry, with everything that it is stored with: the fluent form of reading and refilling.

use std::time::Duration;

use super::cached::{Cached, Refilled};
use super::codec::{Codec, Json};
use super::handle::Cache;
use super::outdated::versioned;
use crate::error::ClientError;
use crate::options::{LifetimeOptions, PutOptions};

/// One entry of a [`Cache`], with what it is stored with when this caller refills it. Parts of the
/// lifetime that are not set come from the namespace's policy.
///
/// ```no_run
/// use std::time::Duration;
/// # use verax_client::{Cache, ClientError};
/// # async fn read_board(harbor: &str) -> Result<Vec<String>, std::io::Error> { Ok(vec![]) }
/// # async fn example(boards: &Cache) -> Result<(), Box<dyn std::error::Error>> {
/// let board = boards
///     .entry("board/saltmere")
///     .max_age(Duration::from_secs(30))
///     .stale_if_error(Duration::from_secs(3_600))
///     .tag("harbor-saltmere")
///     .get_or_refill(async || read_board("saltmere").await)
///     .await?;
/// println!("{} sailings, {:?}", board.value.len(), board.from);
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone)]
#[must_use = "nothing is read before a terminal method, such as get_or_refill, is awaited"]
pub struct CacheEntry<C = Json> {
    pub(super) codec: C,
    pub(super) cache: Cache,
    pub(super) key: String,
    pub(super) lifetime: LifetimeOptions,
    pub(super) negative_max_age: Option<Duration>,
    pub(super) tags: Vec<String>,
}

impl Cache {
    /// An entry, to be read or refilled with more than a lifetime.
    pub fn entry(&self, key: impl Into<String>) -> CacheEntry {
        CacheEntry {
            codec: Json,
            cache: self.clone(),
            key: key.into(),
            lifetime: LifetimeOptions::default(),
            negative_max_age: None,
            tags: Vec::new(),
        }
    }
}

impl<C> CacheEntry<C> {
    /// How its values are encoded.
    pub fn codec<D>(self, codec: D) -> CacheEntry<D> {
        let Self { cache, key, lifetime, negative_max_age, tags, .. } = self;
        CacheEntry { codec, cache, key, lifetime, negative_max_age, tags }
    }

    /// How long it is fresh.
    pub fn max_age(mut self, time: Duration) -> Self {
        self.lifetime.max_age = Some(time);
        self
    }

    /// How long after that the previous copy is served while one caller refreshes it.
    pub fn stale_while_revalidate(mut self, time: Duration) -> Self {
        self.lifetime.stale_while_revalidate = Some(time);
        self
    }

    /// How long after max-age the previous copy is served when a refill fails.
    pub fn stale_if_error(mut self, time: Duration) -> Self {
        self.lifetime.stale_if_error = Some(time);
        self
    }

    /// How long the knowledge that there is no value is kept; by default as long as the namespace
    /// keeps negative entries.
    pub fn negative_max_age(mut self, time: Duration) -> Self {
        self.negative_max_age = Some(time);
        self
    }

    /// Adds a tag, by which the entry can be invalidated together with others.
    pub fn tag(mut self, tag: impl Into<String>) -> Self {
        self.tags.push(tag.into());
        self
    }

    /// Adds several tags.
    pub fn tags(mut self, tags: impl IntoIterator<Item = impl Into<String>>) -> Self {
        self.tags.extend(tags.into_iter().map(Into::into));
        self
    }

    /// The version of the value's schema. Each version has an entry of its own, under the key with
    /// `;schema=VERSION` behind it, so that instances of the application before and after a change
    /// of the schema do not refill each other's entries.
    /// [`Outdated::schema`](super::Outdated::schema) invalidates them. Call it once.
    pub fn schema(mut self, version: u32) -> Self {
        self.key = versioned(&self.key, version);
        self
    }

    /// The key of the entry, with the schema's version.
    pub fn key(&self) -> &str {
        &self.key
    }

    /// The cached value; `None` is a miss or a negative entry. Nothing is refilled, unless the
    /// namespace has an origin.
    ///
    /// # Errors
    /// [`ClientError`]; [`ClientError::Unreadable`] if the value cannot be decoded.
    pub async fn get<T>(&self) -> Result<Option<T>, ClientError>
    where
        C: Codec<T>,
    {
        let Some(hit) = self.cache.get(&self.key).await? else { return Ok(None) };
        let unreadable = |reason| ClientError::Unreadable { key: self.key.clone(), reason };
        self.codec.decode(&hit.value).map(Some).map_err(unreadable)
    }

    /// Stores a value; returns whether it replaced one.
    ///
    /// # Errors
    /// [`ClientError`]; [`ClientError::Invalid`] if the value cannot be encoded.
    pub async fn put<T>(&self, value: &T) -> Result<bool, ClientError>
    where
        C: Codec<T>,
    {
        let encoded = self.codec.encode(value).map_err(|reason| {
            ClientError::Invalid(format!("the value of {:?} cannot be encoded: {reason}", self.key))
        })?;
        let media_type = Some(self.codec.media_type().to_owned());
        let options = PutOptions { media_type, ..self.put_options() };
        self.cache.put(&self.key, encoded, options).await
    }

    /// Deletes the entry; returns whether it existed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete(&self) -> Result<bool, ClientError> {
        self.cache.delete(&self.key).await
    }

    /// Returns the value: from the cache if present, otherwise from `refill`, whose value
    /// is stored. Of all callers that miss a key at the same time, in any process, one refills; the
    /// others wait for its value, or take over when it fails. A value read before an invalidation
    /// is never stored after it. When `refill` fails, a copy within its stale time is served
    /// instead, marked as such.
    ///
    /// The value does not depend on the cache: if Verax does not respond in time, another caller
    /// takes too long, or the cached value is of another form, `refill` is called.
    ///
    /// # Errors
    /// Only errors of `refill`; [`Cached::not_stored`] says why its value was not stored.
    pub async fn get_or_refill<T, E>(
        &self,
        refill: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<Cached<T>, E>
    where
        C: Codec<T>,
    {
        let refill = async move || refill().await.map(Refilled::value);
        let cached = self.refill(false, refill).await?;
        // Without negative entries there is always a value.
        match cached {
            Cached { value: Some(value), from, age, time_left, not_stored } => {
                Ok(Cached { value, from, age, time_left, not_stored })
            }
            Cached { value: None, .. } => unreachable!("a refill without a value"),
        }
    }

    /// [`get_or_refill`](Self::get_or_refill) for values that may not exist, and for refills that
    /// know more: tags and lifetimes found while reading. The knowledge that there is no value is
    /// kept as a negative entry.
    ///
    /// # Errors
    /// Only errors of `refill`.
    pub async fn find_or_refill<T, R: Into<Refilled<T>>, E>(
        &self,
        refill: impl AsyncFnOnce() -> Result<R, E>,
    ) -> Result<Cached<Option<T>>, E>
    where
        C: Codec<T>,
    {
        self.refill(true, async move || refill().await.map(Into::into)).await
    }

    /// [`find_or_refill`](Self::find_or_refill) by a task: a caller that finds a stale copy, or one
    /// that is due for early refresh, gets it without waiting, while `refill` runs in the
    /// background of the process.
    ///
    /// # Errors
    /// Only errors of `refill`, when there was no copy to serve.
    pub async fn find_or_refill_in_background<T, R, E, F>(
        &self,
        refill: F,
    ) -> Result<Cached<Option<T>>, E>
    where
        T: Send + Sync + 'static,
        C: Codec<T>,
        R: Into<Refilled<T>>,
        E: Send + 'static,
        F: Future<Output = Result<R, E>> + Send + 'static,
    {
        self.refill_in_background(async move { refill.await.map(Into::into) }).await
    }

    pub(super) fn put_options(&self) -> PutOptions {
        let LifetimeOptions { max_age, stale_while_revalidate, stale_if_error } = self.lifetime;
        PutOptions {
            max_age,
            stale_while_revalidate,
            stale_if_error,
            tags: self.tags.clone(),
            ..PutOptions::default()
        }
    }
}
