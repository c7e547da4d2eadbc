//! Writes to an origin and updates the cache, in the order that leaves no outdated value behind.

use std::time::Duration;

use serde::Serialize;

use super::cache::Cache;
use crate::error::ClientError;
use crate::options::PutOptions;

/// How often an invalidation is attempted.
const TRIES: u32 = 3;

/// The entries that a write outdates.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outdated {
    /// The entry of one key.
    Key(String),
    /// Every entry with a tag.
    Tag(String),
}

impl Outdated {
    /// The entry of one key.
    pub fn key(key: impl Into<String>) -> Self {
        Self::Key(key.into())
    }

    /// Every entry with a tag.
    pub fn tag(tag: impl Into<String>) -> Self {
        Self::Tag(tag.into())
    }
}

/// A write that the origin accepted.
#[derive(Debug)]
pub struct Written<T> {
    /// The write's result.
    pub value: T,
    /// Whether the cache was updated. If not, outdated values may be served until their lifetimes
    /// end: retry, or wait for that.
    pub told: Result<(), ClientError>,
}

/// Invalidates on drop if that was not done yet: the write may have happened.
struct PendingInvalidation<'c> {
    cache: &'c Cache,
    outdated: Vec<Outdated>,
}

impl Drop for PendingInvalidation<'_> {
    fn drop(&mut self) {
        let outdated = std::mem::take(&mut self.outdated);
        if outdated.is_empty() {
            return;
        }
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            let cache = self.cache.clone();
            runtime.spawn(async move { drop(cache.end(&outdated).await) });
        }
    }
}

impl Cache {
    /// Writes to the origin by `write`, and then invalidates the entries it outdates. Because of
    /// this order, and because an invalidation voids the permit of an active refill, no value read
    /// before the write stays cached after it. The entries are also invalidated if `write` fails or
    /// this call is dropped midway, since the write may have happened.
    ///
    /// # Errors
    /// Only errors of `write`; [`Written::told`] says whether the cache was updated.
    pub async fn write_and_invalidate<T, E>(
        &self,
        outdated: impl IntoIterator<Item = Outdated>,
        write: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<Written<T>, E> {
        let mut telling =
            PendingInvalidation { cache: self, outdated: outdated.into_iter().collect() };
        let written = write().await;
        let told = self.end(&telling.outdated).await;
        telling.outdated.clear();
        Ok(Written { value: written?, told })
    }

    /// Writes to the origin by `write`, and then stores its result as the entry of `key`, as JSON.
    /// A failed write changes nothing; if it may have happened anyway, use
    /// [`write_and_invalidate`](Self::write_and_invalidate). Of two concurrent writers, the first
    /// at the origin may be the last here: a lock around the call, or a namespace that writes
    /// through, keeps them in order.
    ///
    /// # Errors
    /// Only errors of `write`; [`Written::told`] says whether the cache was updated.
    pub async fn write_and_store<T: Serialize, E>(
        &self,
        key: &str,
        lifetime: Duration,
        write: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<Written<T>, E> {
        let mut telling = PendingInvalidation { cache: self, outdated: vec![Outdated::key(key)] };
        let value = match write().await {
            Ok(value) => value,
            Err(error) => {
                telling.outdated.clear();
                return Err(error);
            }
        };
        let put = PutOptions { max_age: Some(lifetime), ..PutOptions::default() };
        // Without the new value, at least the old one is removed.
        let told = match self.put_json(key, &value, put).await {
            Ok(_) => Ok(()),
            Err(_) => self.end(&telling.outdated).await,
        };
        telling.outdated.clear();
        Ok(Written { value, told })
    }

    /// Invalidates entries, with retries. A failure does not stop the others.
    ///
    /// # Errors
    /// The first failure.
    async fn end(&self, outdated: &[Outdated]) -> Result<(), ClientError> {
        let mut told = Ok(());
        for one in outdated {
            let mut tries = 0;
            while let Err(error) = self.end_one(one).await {
                tries += 1;
                let again =
                    matches!(error, ClientError::Unreachable { .. } | ClientError::TimedOut { .. });
                if tries == TRIES || !again {
                    told = told.and(Err(error));
                    break;
                }
                tokio::time::sleep(Duration::from_millis(20 << tries)).await;
            }
        }
        told
    }

    async fn end_one(&self, one: &Outdated) -> Result<(), ClientError> {
        match one {
            Outdated::Key(key) => self.delete(key).await.map(drop),
            Outdated::Tag(tag) => self.invalidate_tag(tag).await.map(drop),
        }
    }
}
