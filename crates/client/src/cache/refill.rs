//! The one call that replaces look-up, branch and store.

use std::pin::pin;
use std::time::Duration;

use bytes::Bytes;
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::time::Instant;
use verax_core::entry::NEGATIVE_TYPE;
use verax_core::source::Source;
use verax_wire::{GetFlags, PermitFlags, Reply, Request};

use super::active_refills::{Joined, Lead, RefillResult, Safe};
use super::cached::{Cached, CachedFrom, Refilled};
use super::codec::Codec;
use super::entry::CacheEntry;
use super::events::CacheEventKind;
use super::frames::{milliseconds, put_frame, unexpected, was_there};
use super::handle::Cache;
use super::options::Hit;
use crate::error::ClientError;
use crate::lookup::Lookup;
use crate::options::PutOptions;
use crate::wire::link::Undo;

/// The outcome of requesting a key.
enum Acquisition {
    /// A cached copy, or the one another caller stored.
    Value(Hit),
    /// There is no value, as another caller found.
    NoValue,
    /// This caller must refill.
    Permit(u64),
    /// Another caller is still refilling.
    Later,
}

/// The state of a caller before it refills.
enum Before<T> {
    /// Done: a value, or a negative entry.
    Known(Cached<Option<T>>),
    /// A refill is needed.
    Refill(Holding, Option<Cached<T>>),
}

/// What to do about the cached state.
enum CachedState<T> {
    /// It is sufficient.
    Enough(Cached<Option<T>>),
    /// It must be refilled; the present value is acceptable meanwhile.
    Refill { refresh: bool, previous: Option<Cached<T>> },
    /// Verax cannot be reached.
    Unknown(ClientError),
}

/// What a caller that refills has: the permit to store the value, released if the refill fails or
/// is abandoned, and the waiting callers of this process.
pub(super) struct Holding {
    cache: Cache,
    key: String,
    permit: Option<u64>,
    lead: Option<Lead>,
    /// Why there is no permit.
    no_permit: Option<ClientError>,
    /// How long storing may take.
    bound: Duration,
}

/// A value to be stored, encoded.
struct Encoded {
    value: Bytes,
    options: PutOptions,
}

/// Another caller is still refilling.
fn refilled_by_another() -> ClientError {
    ClientError::NotStored("another caller is refilling the key".into())
}

impl Holding {
    /// The permit for a key that a warm run asked for.
    pub(super) fn with_permit(cache: &Cache, key: &str, permit: u64) -> Self {
        let mut holding = Self::nothing(cache, key, None);
        holding.permit = Some(permit);
        // No user waits for it.
        holding.bound = cache.0.options.timeout;
        holding
    }

    fn nothing(cache: &Cache, key: &str, why: Option<ClientError>) -> Self {
        let (cache, key, bound) = (cache.clone(), key.to_owned(), cache.0.options.bound);
        Self { cache, key, permit: None, lead: None, no_permit: why, bound }
    }

    /// Notifies the waiting callers of this process.
    fn land(&mut self, landed: RefillResult, safe: Safe) {
        if let Some(lead) = self.lead.take() {
            lead.land(landed, safe);
        }
    }

    /// Shares the result of a refill, and stores it if allowed; returns why it was not stored.
    async fn keep(mut self, encoded: Encoded) -> Option<ClientError> {
        let Encoded { value, options } = encoded;
        let none = options.media_type.as_deref() == Some(NEGATIVE_TYPE);
        let landed = if none { RefillResult::NoValue } else { RefillResult::Value(value.clone()) };
        let Some(permit) = self.permit else {
            self.land(landed, Safe::Early);
            return Some(self.no_permit.take().unwrap_or_else(refilled_by_another));
        };
        // A later caller may know of an invalidation that the store does not.
        if let Some(lead) = &self.lead {
            lead.close();
        }
        let cache = self.cache.clone();
        let bound = self.bound;
        let stored = cache.store_refilled(&self.key, &value, &options, permit);
        // An unused permit is released, so that the next queued caller need not wait.
        let outcome = tokio::time::timeout(bound, stored)
            .await
            .unwrap_or_else(|_| Err(cache.timed_out(bound)));
        match outcome {
            Ok(_) => {
                self.permit = None;
                self.land(landed, Safe::All);
                None
            }
            Err(error) => {
                self.land(landed, Safe::Early);
                Some(error)
            }
        }
    }
}

impl Drop for Holding {
    fn drop(&mut self) {
        let Some(permit) = self.permit else { return };
        // In the background, since `drop` cannot wait; otherwise the permit expires.
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            let (cache, key) = (self.cache.clone(), std::mem::take(&mut self.key));
            runtime.spawn(async move {
                let release = Request::ReleasePermit { key: &key, permit, fail_all: false };
                drop(cache.request(release).await);
            });
        }
    }
}

/// A decoded hit.
fn cached<T>(hit: &Hit, value: T) -> Cached<T> {
    let from = match hit.source {
        _ if hit.near => CachedFrom::NearCopy,
        Source::Hit if hit.due => CachedFrom::BeingRefreshed,
        Source::Hit => CachedFrom::Cache,
        Source::Stale => CachedFrom::BeingRefreshed,
        Source::StaleOnError => CachedFrom::StaleOnError,
        Source::Origin | Source::Joined => CachedFrom::SharedRefill,
    };
    let age = hit.details.as_ref().map(|details| details.age);
    Cached { age, time_left: hit.time_left, ..Cached::new(value, from) }
}

fn no_value<T>(from: CachedFrom) -> Cached<Option<T>> {
    Cached::new(None, from)
}

impl Cache {
    /// [`CacheEntry::get_or_refill`] for the simple case: a value, fresh for `lifetime`.
    ///
    /// # Errors
    /// Only errors of `refill`.
    pub async fn get_or_refill<T: Serialize + DeserializeOwned, E>(
        &self,
        key: &str,
        lifetime: Duration,
        refill: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        let entry = self.entry(key).max_age(lifetime);
        entry.get_or_refill(refill).await.map(|cached| cached.value)
    }

    /// [`CacheEntry::find_or_refill`] for the simple case: a value, fresh for `lifetime`, or the
    /// knowledge that there is none, kept for `negative_lifetime`.
    ///
    /// # Errors
    /// Only errors of `refill`.
    pub async fn find_or_refill<T: Serialize + DeserializeOwned, E>(
        &self,
        key: &str,
        lifetime: Duration,
        negative_lifetime: Duration,
        refill: impl AsyncFnOnce() -> Result<Option<T>, E>,
    ) -> Result<Option<T>, E> {
        let entry = self.entry(key).max_age(lifetime).negative_max_age(negative_lifetime);
        entry.find_or_refill(refill).await.map(|cached| cached.value)
    }
}

impl<C> CacheEntry<C> {
    /// Reads the key and, if that is not sufficient, refills it. `negative` says whether a negative
    /// entry is sufficient.
    pub(super) async fn refill<T, E>(
        &self,
        negative: bool,
        refill: impl AsyncFnOnce() -> Result<Refilled<T>, E>,
    ) -> Result<Cached<Option<T>>, E>
    where
        C: Codec<T>,
    {
        match self.before(negative).await {
            Before::Known(known) => Ok(known),
            Before::Refill(holding, previous) => {
                let started = Instant::now();
                match refill().await {
                    Ok(refilled) => Ok(self.keep(holding, refilled, started).await),
                    Err(error) => self.after_failure(holding, previous, started).await.ok_or(error),
                }
            }
        }
    }

    pub(super) async fn refill_in_background<T, E>(
        &self,
        refill: impl Future<Output = Result<Refilled<T>, E>> + Send + 'static,
    ) -> Result<Cached<Option<T>>, E>
    where
        T: Send + Sync + 'static,
        C: Codec<T>,
        E: Send + 'static,
    {
        match self.before(true).await {
            Before::Known(known) => Ok(known),
            Before::Refill(holding, Some(previous)) => {
                let entry = self.clone();
                tokio::spawn(async move {
                    let started = Instant::now();
                    match refill.await {
                        Ok(refilled) => drop(entry.keep(holding, refilled, started).await),
                        Err(_) => entry.cache.note(CacheEventKind::RefillFailed, started),
                    }
                });
                Ok(previous.map(Some))
            }
            Before::Refill(holding, None) => {
                let started = Instant::now();
                match refill.await {
                    Ok(refilled) => Ok(self.keep(holding, refilled, started).await),
                    Err(error) => self.after_failure(holding, None, started).await.ok_or(error),
                }
            }
        }
    }

    /// Stores what a refill found and returns it.
    pub(super) async fn keep<T>(
        &self,
        holding: Holding,
        refilled: Refilled<T>,
        started: Instant,
    ) -> Cached<Option<T>>
    where
        C: Codec<T>,
    {
        let not_stored = match self.encoded(&refilled) {
            Ok(encoded) => {
                let bytes = encoded.value.len();
                self.cache.note_with(CacheEventKind::Refill, started, bytes, None);
                holding.keep(encoded).await
            }
            Err(error) => {
                self.cache.note(CacheEventKind::Refill, started);
                Some(error)
            }
        };
        if let Some(error) = &not_stored {
            self.cache.note_with(CacheEventKind::NotStored, started, 0, Some(error));
        }
        let age = Some(Duration::ZERO);
        Cached { age, not_stored, ..Cached::new(refilled.value, CachedFrom::Refill) }
    }

    /// A refilled value as it is stored.
    fn encoded<T>(&self, refilled: &Refilled<T>) -> Result<Encoded, ClientError>
    where
        C: Codec<T>,
    {
        if !refilled.is_storable {
            return Err(ClientError::NotStored("the refill asked for it".into()));
        }
        let mut options = self.put_options();
        options.tags.extend(refilled.tags.iter().cloned());
        options.max_age = refilled.lifetime.max_age.or(options.max_age);
        let Some(value) = &refilled.value else {
            // Nothing to serve stale.
            options.max_age = refilled.lifetime.max_age.or(self.negative_max_age);
            options.stale_while_revalidate = Some(Duration::ZERO);
            options.stale_if_error = Some(Duration::ZERO);
            options.media_type = Some(NEGATIVE_TYPE.into());
            return Ok(Encoded { value: Bytes::new(), options });
        };
        options.media_type = Some(self.codec.media_type().to_owned());
        let value = self.codec.encode(value).map_err(|reason| {
            ClientError::Invalid(format!("the value of {:?} cannot be encoded: {reason}", self.key))
        })?;
        Ok(Encoded { value, options })
    }

    /// What to serve although a refill failed: the present copy, or one within its stale-if-error
    /// time.
    async fn after_failure<T>(
        &self,
        holding: Holding,
        previous: Option<Cached<T>>,
        started: Instant,
    ) -> Option<Cached<Option<T>>>
    where
        C: Codec<T>,
    {
        self.cache.note(CacheEventKind::RefillFailed, started);
        // Another caller may try.
        drop(holding);
        if let Some(previous) = previous {
            let from = CachedFrom::StaleOnError;
            return Some(Cached { from, ..previous.map(Some) });
        }
        let flags = GetFlags {
            only_if_cached: true,
            stale_if_error: true,
            details: true,
            ..GetFlags::default()
        };
        match self.cache.look_up_within(&self.key, flags, self.cache.0.options.bound).await {
            Ok(Lookup::Found(hit)) => {
                let value = self.codec.decode(&hit.value).ok()?;
                Some(cached(&hit, Some(value)))
            }
            _ => None,
        }
    }

    /// Reads the key and, if that is not sufficient, acquires its permit. Of all callers of this
    /// process that get this far for one key, one refills, and the others share its result.
    async fn before<T>(&self, negative: bool) -> Before<T>
    where
        C: Codec<T>,
    {
        let (cache, key) = (&self.cache, &self.key);
        let deadline = Instant::now() + cache.0.options.refill_wait;
        loop {
            let (refresh, previous, unknown) = match self.cached_state(negative).await {
                CachedState::Enough(known) => return Before::Known(known),
                CachedState::Refill { refresh, previous } => (refresh, previous, None),
                CachedState::Unknown(error) => (false, None, Some(error)),
            };
            let lead = match cache.0.active_refills.join(key) {
                Joined::Lead(lead) => lead,
                Joined::Follow(_) if previous.is_some() => {
                    return Before::Known(previous.map_or_else(
                        || no_value(CachedFrom::Cache),
                        |previous| previous.map(Some),
                    ));
                }
                Joined::Follow(follow) => {
                    let landed = tokio::time::timeout_at(deadline, follow.landed()).await;
                    match landed {
                        Ok(RefillResult::Value(bytes)) => {
                            // This caller may expect another type of value.
                            if let Ok(value) = self.codec.decode(&bytes) {
                                let shared = CachedFrom::SharedRefill;
                                return Before::Known(Cached::new(Some(value), shared));
                            }
                        }
                        Ok(RefillResult::NoValue) if negative => {
                            return Before::Known(no_value(CachedFrom::SharedRefill));
                        }
                        Ok(RefillResult::Nothing) => continue,
                        Ok(RefillResult::NoValue) | Err(_) => {}
                    }
                    let why = Some(refilled_by_another());
                    return Before::Refill(Holding::nothing(cache, key, why), previous);
                }
            };
            if unknown.is_some() {
                // Others that missed at this moment join before it is fetched.
                tokio::task::yield_now().await;
            }
            lead.begin();
            let mut holding = Holding::nothing(cache, key, unknown);
            holding.lead = Some(lead);
            // Without Verax, nothing is stored.
            if holding.no_permit.is_some() {
                return Before::Refill(holding, previous);
            }
            return self.acquire_leading(holding, refresh, negative, previous).await;
        }
    }

    /// Reads the key, and decides what to do about the cached state.
    async fn cached_state<T>(&self, negative: bool) -> CachedState<T>
    where
        C: Codec<T>,
    {
        let flags = GetFlags {
            only_if_cached: true,
            may_refill: true,
            details: true,
            ..GetFlags::default()
        };
        let started = Instant::now();
        match self.cache.look_up_within(&self.key, flags, self.cache.0.options.bound).await {
            Ok(Lookup::NoValue) if negative => CachedState::Enough(no_value(CachedFrom::Cache)),
            Ok(Lookup::NoValue) => CachedState::Refill { refresh: true, previous: None },
            Ok(Lookup::Miss) => CachedState::Refill { refresh: false, previous: None },
            Ok(Lookup::Found(hit)) => match self.codec.decode(&hit.value) {
                Ok(value) if !hit.due && hit.source != Source::Stale => {
                    CachedState::Enough(cached(&hit, Some(value)))
                }
                Ok(value) => {
                    CachedState::Refill { refresh: true, previous: Some(cached(&hit, value)) }
                }
                // A value of another form is replaced by the caller that gets the permit.
                Err(reason) => {
                    let error = ClientError::Unreadable { key: self.key.clone(), reason };
                    let bytes = hit.value.len();
                    self.cache.note_with(CacheEventKind::Unreadable, started, bytes, Some(&error));
                    CachedState::Refill { refresh: true, previous: None }
                }
            },
            Err(error) => CachedState::Unknown(error),
        }
    }

    /// Requests the key on behalf of all callers in this process.
    async fn acquire_leading<T>(
        &self,
        mut holding: Holding,
        refresh: bool,
        negative: bool,
        previous: Option<Cached<T>>,
    ) -> Before<T>
    where
        C: Codec<T>,
    {
        match self.cache.acquire_permit(&self.key, refresh).await {
            Ok(Acquisition::Value(hit)) => {
                if let Ok(value) = self.codec.decode(&hit.value) {
                    let known = cached(&hit, Some(value));
                    holding.land(RefillResult::Value(hit.value), Safe::Early);
                    return Before::Known(known);
                }
                holding.no_permit = Some(refilled_by_another());
            }
            Ok(Acquisition::NoValue) if negative => {
                holding.land(RefillResult::NoValue, Safe::Early);
                return Before::Known(no_value(CachedFrom::SharedRefill));
            }
            Ok(Acquisition::Permit(permit)) => holding.permit = Some(permit),
            // Without a permit, nothing is stored, since it could be outdated.
            outcome => {
                if let Some(previous) = previous {
                    return Before::Known(previous.map(Some));
                }
                holding.no_permit = Some(outcome.err().unwrap_or_else(refilled_by_another));
            }
        }
        Before::Refill(holding, previous)
    }
}

impl Cache {
    /// Requests a key, and waits while another caller refills it. With `refresh`, refills even if a
    /// value is present.
    async fn acquire_permit(&self, key: &str, refresh: bool) -> Result<Acquisition, ClientError> {
        let options = &self.0.options;
        let call = pin!(async {
            let mark = self.0.near.as_ref().map(|near| near.mark());
            let details = mark.is_some() || self.compresses();
            let connection = self.0.transport.connection().await?;
            let acquire = Request::AcquirePermit {
                key,
                flags: PermitFlags { stale: true, details, refresh },
                owner: "",
                lease: milliseconds(options.refill_lease),
                wait: milliseconds(options.refill_wait),
            };
            let undo = Some(Undo::Permit(key.to_owned()));
            let raw = self.call_on(&connection, &acquire, undo).await?;
            match raw.reply() {
                Ok(Reply::Permit { permit, .. }) => Ok(Acquisition::Permit(permit)),
                Ok(Reply::Later { .. }) => Ok(Acquisition::Later),
                Ok(_) | Err(_) => match self.found(key, &raw, raw.reply(), mark)? {
                    Lookup::Found(hit) => Ok(Acquisition::Value(hit)),
                    Lookup::NoValue => Ok(Acquisition::NoValue),
                    Lookup::Miss => Err(unexpected()),
                },
            }
        });
        let bound = options.refill_wait + options.bound;
        self.within(Instant::now(), bound, true, call).await
    }

    async fn store_refilled(
        &self,
        key: &str,
        value: &[u8],
        options: &PutOptions,
        permit: u64,
    ) -> Result<bool, ClientError> {
        let packed = self.packed(value, options);
        let tags: Vec<&str> = options.tags.iter().map(String::as_str).collect();
        let put = put_frame(key, &packed, options, &tags)?;
        let raw = self.request(Request::PutWithPermit { permit, put }).await;
        self.forget(key);
        was_there(&raw?)
    }
}
