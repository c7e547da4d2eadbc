//! The one call that replaces look-up, branch and store.

use std::time::{Duration, Instant};

use serde::Serialize;
use serde::de::DeserializeOwned;
use verax_core::entry::NEGATIVE_TYPE;
use verax_wire::{GetFlags, PermitFlags, Reply, Request};

use super::active_refills::{Joined, Lead, RefillResult, Safe};
use super::cache::Cache;
use super::frames::{milliseconds, put_frame, unexpected, was_there};
use super::link::Undo;
use super::options::{CacheEvent, Hit, LookupOutcome};
use crate::error::ClientError;
use crate::options::PutOptions;
use verax_core::source::Source;

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
enum Before<'c, T> {
    /// Done: a value, or a negative entry.
    Known(Option<T>),
    /// A refill is needed.
    Refill {
        /// The permit to store the value.
        holding: Holding<'c>,
        /// A value to fall back on if the refill fails.
        previous: Option<T>,
    },
}

/// What to do about the cached state.
enum CachedState<T> {
    /// It is sufficient.
    Enough(Option<T>),
    /// It must be refilled; the present value is acceptable meanwhile.
    Refill { refresh: bool, previous: Option<T> },
    /// Verax cannot be reached.
    Unknown,
}

/// A permit, released if the refill fails or is abandoned, and the waiting callers of this process.
struct Holding<'c> {
    cache: &'c Cache,
    key: &'c str,
    permit: Option<u64>,
    lead: Option<Lead>,
}

impl<'c> Holding<'c> {
    fn nothing(cache: &'c Cache, key: &'c str) -> Self {
        Self { cache, key, permit: None, lead: None }
    }
}

impl Holding<'_> {
    /// Notifies the waiting callers of this process.
    fn land(&mut self, landed: RefillResult, safe: Safe) {
        if let Some(lead) = self.lead.take() {
            lead.land(landed, safe);
        }
    }
}

impl Drop for Holding<'_> {
    fn drop(&mut self) {
        let Some(permit) = self.permit else { return };
        // In the background, since `drop` cannot wait; otherwise the permit expires.
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            let (cache, key) = (self.cache.clone(), self.key.to_owned());
            runtime.spawn(async move {
                let release = Request::ReleasePermit { key: &key, permit, fail_all: false };
                drop(cache.request(release).await);
            });
        }
    }
}

impl Cache {
    /// Returns the value of a key, as JSON: from the cache if present, otherwise from `refill`,
    /// whose value is stored for `lifetime`. Of all callers that miss a key at the same time, in
    /// any process, one refills; the others wait for its value, or take over when it fails. A value
    /// read before an invalidation is never stored after it. If the namespace's policy enables it,
    /// one caller refills early while the others still get the value.
    ///
    /// The value does not depend on the cache: if Verax does not respond within the options'
    /// timeout, another caller takes too long, or the cached value is of another form, `refill` is
    /// called.
    ///
    /// # Errors
    /// Only errors of `refill`.
    pub async fn get_or_refill<T: Serialize + DeserializeOwned, E>(
        &self,
        key: &str,
        lifetime: Duration,
        refill: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        let (holding, previous) = match self.before(key, false).await {
            Before::Known(Some(value)) => return Ok(value),
            Before::Known(None) => (Holding::nothing(self, key), None),
            Before::Refill { holding, previous } => (holding, previous),
        };
        let started = Instant::now();
        let value = match (refill().await, previous) {
            (Err(_), Some(previous)) => return Ok(previous),
            (refilled, _) => refilled?,
        };
        self.note(CacheEvent::Refill, started);
        if let Ok(bytes) = serde_json::to_vec(&value) {
            self.keep(holding, &bytes, "application/json", lifetime).await;
        }
        Ok(value)
    }

    /// [`get_or_refill`](Self::get_or_refill) for values that may not exist: a negative entry is
    /// kept for `negative_lifetime`, so that the origin is not read again and again.
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
        let (holding, previous) = match self.before(key, true).await {
            Before::Known(known) => return Ok(known),
            Before::Refill { holding, previous } => (holding, previous),
        };
        let started = Instant::now();
        let value = match (refill().await, previous) {
            (Err(_), Some(previous)) => return Ok(Some(previous)),
            (refilled, _) => refilled?,
        };
        self.note(CacheEvent::Refill, started);
        match &value {
            Some(value) => {
                if let Ok(bytes) = serde_json::to_vec(value) {
                    self.keep(holding, &bytes, "application/json", lifetime).await;
                }
            }
            None => self.keep(holding, b"", NEGATIVE_TYPE, negative_lifetime).await,
        }
        Ok(value)
    }

    /// Reads a key and, if that is not sufficient, acquires its permit. `negative` says whether a
    /// negative entry is sufficient. Of all callers of this process that get this far for one key,
    /// one refills, and the others share its result.
    async fn before<'c, T: DeserializeOwned>(
        &'c self,
        key: &'c str,
        negative: bool,
    ) -> Before<'c, T> {
        let deadline = Instant::now() + self.0.options.refill_wait;
        loop {
            let (ask, refresh, previous) = match self.cached_state(key, negative).await {
                CachedState::Enough(known) => return Before::Known(known),
                CachedState::Refill { refresh, previous } => (true, refresh, previous),
                CachedState::Unknown => (false, false, None),
            };
            let lead = match self.0.active_refills.join(key) {
                Joined::Lead(lead) => lead,
                Joined::Follow(_) if previous.is_some() => return Before::Known(previous),
                Joined::Follow(follow) => {
                    let landed = tokio::time::timeout_at(deadline.into(), follow.landed()).await;
                    match landed {
                        Ok(RefillResult::Value(bytes)) => {
                            // This caller may expect another type of value.
                            if let Ok(value) = serde_json::from_slice(&bytes) {
                                return Before::Known(Some(value));
                            }
                        }
                        Ok(RefillResult::NoValue) if negative => return Before::Known(None),
                        Ok(RefillResult::Nothing) => continue,
                        Ok(RefillResult::NoValue) | Err(_) => {}
                    }
                    return Before::Refill { holding: Holding::nothing(self, key), previous };
                }
            };
            if !ask {
                // Others that missed at this moment join before it is fetched.
                tokio::task::yield_now().await;
            }
            lead.begin();
            let mut holding = Holding { lead: Some(lead), ..Holding::nothing(self, key) };
            // Without Verax, nothing is stored.
            if !ask {
                return Before::Refill { holding, previous };
            }
            return self
                .acquire_leading(&mut holding, refresh, negative, previous)
                .await
                .unwrap_or_else(|previous| Before::Refill { holding, previous });
        }
    }

    /// Reads a key, and decides what to do about the cached state.
    async fn cached_state<T: DeserializeOwned>(&self, key: &str, negative: bool) -> CachedState<T> {
        let flags = GetFlags { only_if_cached: true, may_refill: true, ..GetFlags::default() };
        match self.look_up(key, flags, self.0.options.bound).await {
            Ok(LookupOutcome::NoValue) if negative => CachedState::Enough(None),
            Ok(LookupOutcome::NoValue) => CachedState::Refill { refresh: true, previous: None },
            Ok(LookupOutcome::Miss) => CachedState::Refill { refresh: false, previous: None },
            Ok(LookupOutcome::Hit(hit)) => match serde_json::from_slice(&hit.value) {
                Ok(value) if !hit.due && hit.source != Source::Stale => {
                    CachedState::Enough(Some(value))
                }
                Ok(value) => CachedState::Refill { refresh: true, previous: Some(value) },
                // A value of another form is replaced by the caller that gets the permit.
                Err(_) => CachedState::Refill { refresh: true, previous: None },
            },
            Err(_) => CachedState::Unknown,
        }
    }

    /// Requests a key on behalf of all callers in this process. `Err` means that this caller must
    /// refill, with a value to fall back on.
    async fn acquire_leading<'c, T: DeserializeOwned>(
        &'c self,
        holding: &mut Holding<'c>,
        refresh: bool,
        negative: bool,
        previous: Option<T>,
    ) -> Result<Before<'c, T>, Option<T>> {
        match self.acquire_permit(holding.key, refresh).await {
            Ok(Acquisition::Value(hit)) => {
                if let Ok(value) = serde_json::from_slice(&hit.value) {
                    holding.land(RefillResult::Value(hit.value), Safe::Early);
                    return Ok(Before::Known(Some(value)));
                }
            }
            Ok(Acquisition::NoValue) if negative => {
                holding.land(RefillResult::NoValue, Safe::Early);
                return Ok(Before::Known(None));
            }
            Ok(Acquisition::Permit(permit)) => holding.permit = Some(permit),
            // Without a permit, nothing is stored, since it could be outdated.
            Ok(Acquisition::Later | Acquisition::NoValue) | Err(_) => {
                if previous.is_some() {
                    return Ok(Before::Known(previous));
                }
            }
        }
        Err(previous)
    }

    /// Shares the result of a refill, and stores it if allowed.
    async fn keep(
        &self,
        mut holding: Holding<'_>,
        value: &[u8],
        media_type: &str,
        lifetime: Duration,
    ) {
        let none = media_type == NEGATIVE_TYPE;
        let landed =
            if none { RefillResult::NoValue } else { RefillResult::Value(value.to_vec().into()) };
        let Some(permit) = holding.permit else { return holding.land(landed, Safe::Early) };
        let put = PutOptions {
            media_type: Some(media_type.into()),
            max_age: Some(lifetime),
            ..PutOptions::default()
        };
        // A later caller may know of an invalidation that the store does not.
        if let Some(lead) = &holding.lead {
            lead.close();
        }
        let stored = self.store_refilled(holding.key, value, &put, permit);
        // An unused permit is released, so that the next queued caller need not wait.
        let safe = match tokio::time::timeout(self.0.options.bound, stored).await {
            Ok(Ok(_)) => {
                holding.permit = None;
                Safe::All
            }
            _ => Safe::Early,
        };
        holding.land(landed, safe);
    }

    /// Requests a key, and waits while another caller refills it. With `refresh`, refills even if a
    /// value is present.
    async fn acquire_permit(&self, key: &str, refresh: bool) -> Result<Acquisition, ClientError> {
        let options = &self.0.options;
        let call = async {
            let mark = self.0.near.as_ref().map(|near| near.mark());
            let details = mark.is_some() || self.compresses();
            let link = self.0.pool.link().await?;
            let ask = Request::AcquirePermit {
                key,
                flags: PermitFlags { stale: true, details, refresh },
                owner: "",
                lease: milliseconds(options.refill_lease),
                wait: milliseconds(options.refill_wait),
            };
            let number = link.open(&self.0.tenant, &self.0.namespace).await?;
            let undo = Some(Undo::Permit(key.to_owned()));
            let raw = link.call_or_undo(number, ask, undo).await?;
            match raw.reply() {
                Ok(Reply::Permit { permit, .. }) => Ok(Acquisition::Permit(permit)),
                Ok(Reply::Later { .. }) => Ok(Acquisition::Later),
                Ok(_) | Err(_) => match self.found(key, &raw, mark)? {
                    LookupOutcome::Hit(hit) => Ok(Acquisition::Value(hit)),
                    LookupOutcome::NoValue => Ok(Acquisition::NoValue),
                    LookupOutcome::Miss => Err(unexpected()),
                },
            }
        };
        self.within(options.refill_wait + options.bound, true, call).await
    }

    async fn store_refilled(
        &self,
        key: &str,
        value: &[u8],
        options: &PutOptions,
        permit: u64,
    ) -> Result<bool, ClientError> {
        let packed = self.packed(value, options);
        let put = put_frame(key, &packed, options, &[])?;
        let raw = self.request(Request::PutWithPermit { permit, put }).await;
        self.forget(key);
        was_there(&raw?)
    }
}
