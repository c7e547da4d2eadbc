//! Writing to an origin and telling the cache, in the order that leaves no old value behind.

use std::time::Duration;

use serde::Serialize;

use super::cache::Cache;
use crate::error::ClientError;
use crate::options::PutOptions;

/// How often an invalidation is tried.
const TRIES: u32 = 3;

/// What a write makes untrue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outdated {
    /// The entry of one key.
    Key(String),
    /// Every entry that carries a tag.
    Tag(String),
}

impl Outdated {
    /// The entry of one key.
    pub fn key(key: impl Into<String>) -> Self {
        Self::Key(key.into())
    }

    /// Every entry that carries a tag.
    pub fn tag(tag: impl Into<String>) -> Self {
        Self::Tag(tag.into())
    }
}

/// A write that the origin has taken.
#[derive(Debug)]
pub struct Written<T> {
    /// What the write gave.
    pub value: T,
    /// Whether the cache knows of it. While it does not, old values may be served until their
    /// lifetimes end: try again, or wait for that.
    pub told: Result<(), ClientError>,
}

/// Tells the cache when it is dropped before that was done: the write may have happened.
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
    /// Writes to the origin by `write`, and then ends what the write makes untrue. In this order,
    /// and since ending an entry voids the permit of a refill that is under way, no value that was
    /// read before the write is kept after it. The entries are ended as well when `write` fails, or
    /// when this call is dropped in the middle, for the write may have happened all the same.
    ///
    /// # Errors
    /// Only those of `write`; whether the cache was told is in [`Written::told`].
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

    /// Writes to the origin by `write`, and then stores what it gave as the entry of `key`, as
    /// JSON. A write that fails changes nothing; where it may have happened all the same, use
    /// [`write_and_invalidate`](Self::write_and_invalidate). Of two writers at a time, the one that
    /// was first at the origin may be last here: a lock around the call, or a namespace that writes
    /// through, keeps them in order.
    ///
    /// # Errors
    /// Only those of `write`; whether the cache was told is in [`Written::told`].
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
        // Without the new value, at least the old one goes.
        let told = match self.put_json(key, &value, put).await {
            Ok(_) => Ok(()),
            Err(_) => self.end(&telling.outdated).await,
        };
        telling.outdated.clear();
        Ok(Written { value, told })
    }

    /// Ends entries, and tries again what fails. One that cannot be ended keeps none of the others.
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
