//! Writes to an origin and updates the cache, in the order that leaves no outdated value behind.

use std::sync::{Arc, Weak};
use std::time::Duration;

use futures_util::future::join_all;
use serde::Serialize;
use tokio::time::Instant;

use super::events::CacheEventKind;
use super::handle::{Cache, Inner};
use super::lost::Kept;
use super::outdated::Outdated;
use crate::error::ClientError;
use crate::options::PutOptions;

/// The pause before the first attempt to deliver a lost invalidation; it doubles with each failure.
const FIRST_PAUSE: Duration = Duration::from_millis(100);

/// The longest such pause.
const MAX_PAUSE: Duration = Duration::from_secs(2);

/// How many lost invalidations are sent together.
const DELIVERED_TOGETHER: usize = 100;

/// A write that the origin accepted.
#[derive(Debug)]
pub struct Written<T> {
    /// The write's result.
    pub value: T,
    /// Whether the cache was updated. If Verax did not respond, the invalidations are kept and sent
    /// when it is back; until then this process serves no cached value that they may concern, while
    /// other processes may.
    pub invalidated: Result<(), ClientError>,
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
            runtime.spawn(async move { drop(cache.invalidate_all(&outdated).await) });
        }
    }
}

/// The task that delivers lost invalidations. Its runtime may end before it; then the next loss
/// starts another one.
struct Delivery(Weak<Inner>);

impl Drop for Delivery {
    fn drop(&mut self) {
        if let Some(inner) = self.0.upgrade() {
            inner.lost.stopped();
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
    /// Only errors of `write`; [`Written::invalidated`] says whether the cache was updated.
    pub async fn write_and_invalidate<T, E>(
        &self,
        outdated: impl IntoIterator<Item = Outdated>,
        write: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<Written<T>, E> {
        let mut pending =
            PendingInvalidation { cache: self, outdated: outdated.into_iter().collect() };
        let written = write().await;
        let invalidated = self.invalidate_all(&pending.outdated).await;
        pending.outdated.clear();
        Ok(Written { value: written?, invalidated })
    }

    /// Writes to the origin by `write`, and then stores its result as the entry of `key`, as JSON.
    /// A failed write changes nothing; if it may have happened anyway, use
    /// [`write_and_invalidate`](Self::write_and_invalidate). Of two concurrent writers, the first
    /// at the origin may be the last here: a lock around the call, or a namespace that writes
    /// through, keeps them in order.
    ///
    /// # Errors
    /// Only errors of `write`; [`Written::invalidated`] says whether the cache was updated.
    pub async fn write_and_store<T: Serialize, E>(
        &self,
        key: &str,
        lifetime: Duration,
        write: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<Written<T>, E> {
        let mut pending = PendingInvalidation { cache: self, outdated: vec![Outdated::key(key)] };
        let value = match write().await {
            Ok(value) => value,
            Err(error) => {
                pending.outdated.clear();
                return Err(error);
            }
        };
        let put = PutOptions { max_age: Some(lifetime), ..PutOptions::default() };
        // Without the new value, at least the old one is removed.
        let invalidated = match self.put_json(key, &value, put).await {
            Ok(_) => Ok(()),
            Err(_) => self.invalidate_all(&pending.outdated).await,
        };
        pending.outdated.clear();
        Ok(Written { value, invalidated })
    }

    /// Invalidates entries, all together within the timeout of a call. What was not delivered is
    /// kept, and sent when Verax is back.
    ///
    /// # Errors
    /// The first failure.
    async fn invalidate_all(&self, outdated: &[Outdated]) -> Result<(), ClientError> {
        let started = Instant::now();
        let results = self.deliver(outdated).await;
        let mut invalidated = Ok(());
        for (outdated, result) in outdated.iter().zip(results) {
            let Err(error) = result else { continue };
            match error.is_temporary() {
                true => self.keep_lost(outdated.clone(), &error, started),
                false => self.note_with(CacheEventKind::InvalidationLost, started, 0, Some(&error)),
            }
            invalidated = invalidated.and(Err(error));
        }
        invalidated
    }

    /// Sends invalidations together; the results are in their order.
    async fn deliver(&self, outdated: &[Outdated]) -> Vec<Result<(), ClientError>> {
        join_all(outdated.iter().map(|outdated| self.deliver_one(outdated))).await
    }

    async fn deliver_one(&self, outdated: &Outdated) -> Result<(), ClientError> {
        match outdated {
            Outdated::Key(key) => self.delete(key).await.map(drop),
            Outdated::Tag(tag) => self.invalidate_tag(tag).await,
        }
    }

    fn keep_lost(&self, outdated: Outdated, error: &ClientError, started: Instant) {
        let kind = match self.0.lost.add(outdated) {
            Kept::Yes { start } => {
                if start {
                    self.deliver_lost_in_background();
                }
                CacheEventKind::InvalidationDelayed
            }
            Kept::Overflow => CacheEventKind::InvalidationLost,
        };
        self.note_with(kind, started, 0, Some(error));
    }

    /// Delivers kept invalidations until there are none, or every handle is gone.
    fn deliver_lost_in_background(&self) {
        let Ok(runtime) = tokio::runtime::Handle::try_current() else {
            self.0.lost.stopped();
            return;
        };
        let weak = Arc::downgrade(&self.0);
        let delivery = Delivery(Weak::clone(&weak));
        runtime.spawn(async move {
            let _delivery = delivery;
            let mut pause = FIRST_PAUSE;
            loop {
                tokio::time::sleep(pause).await;
                let Some(inner) = weak.upgrade() else { return };
                let cache = Cache(inner);
                match cache.deliver_lost().await {
                    Ok(true) => return,
                    Ok(false) => pause = FIRST_PAUSE,
                    Err(_) => pause = (pause * 2).min(MAX_PAUSE),
                }
            }
        });
    }

    /// Delivers some of the kept invalidations; returns whether there are no more.
    ///
    /// # Errors
    /// Why one was not delivered. Refusals are not tried again.
    async fn deliver_lost(&self) -> Result<bool, ClientError> {
        let started = Instant::now();
        let Some(oldest) = self.0.lost.oldest(DELIVERED_TOGETHER) else { return Ok(true) };
        let outdated: Vec<Outdated> = oldest.iter().map(|(outdated, _)| outdated.clone()).collect();
        let results = self.deliver(&outdated).await;
        let mut failed = Ok(false);
        let mut settled = Vec::new();
        for (kept, result) in oldest.into_iter().zip(results) {
            match result {
                Err(error) if error.is_temporary() => failed = Err(error),
                Err(error) => {
                    self.note_with(CacheEventKind::InvalidationLost, started, 0, Some(&error));
                    settled.push(kept);
                }
                Ok(()) => settled.push(kept),
            }
        }
        if !settled.is_empty() {
            self.0.lost.delivered(&settled);
            self.note(CacheEventKind::InvalidationDelivered, started);
        }
        failed
    }

    /// Before a cached value is read: if an invalidation that may concern it was lost, it is
    /// delivered first.
    ///
    /// # Errors
    /// Why it could not be delivered: the cached value may be outdated.
    pub(super) async fn settle_lost(&self, key: &str) -> Result<(), ClientError> {
        while self.0.lost.concerns(key) {
            if self.deliver_lost().await? {
                break;
            }
        }
        Ok(())
    }
}
