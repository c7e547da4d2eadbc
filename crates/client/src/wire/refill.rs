//! The one call that replaces look-up, branch and store.

use std::time::{Duration, Instant};

use serde::Serialize;
use serde::de::DeserializeOwned;
use verax_core::entry::NEGATIVE_TYPE;
use verax_wire::{AskFlags, GetFlags, Reply, Request};

use super::cache::{Cache, milliseconds, put_frame, unexpected, was_there};
use super::link::Undo;
use super::options::{CacheEvent, Hit, Looked};
use crate::answer::Source;
use crate::entries::PutOptions;
use crate::error::ClientError;

/// What asking for a key came to.
enum Asked {
    /// A copy that was there, or the one that another caller brought.
    Value(Hit),
    /// There is no value, as another caller has found out.
    NoValue,
    /// It is for this caller to refill.
    Permit(u64),
    /// Another caller still refills.
    Later,
}

/// What a caller has before it refills.
enum Before<'c, T> {
    /// All that it wants: a value, or the word that there is none.
    Known(Option<T>),
    /// Less.
    Refill {
        /// The right to store what it brings.
        holding: Holding<'c>,
        /// Whether what is stored is no such value and is to be replaced.
        replace: bool,
        /// A value that will do if the refill fails.
        previous: Option<T>,
    },
}

/// A permit that is given back, should the refill fail or be given up.
struct Holding<'c> {
    cache: &'c Cache,
    key: &'c str,
    permit: Option<u64>,
}

impl<'c> Holding<'c> {
    fn nothing(cache: &'c Cache, key: &'c str) -> Self {
        Self { cache, key, permit: None }
    }
}

impl Drop for Holding<'_> {
    fn drop(&mut self) {
        let Some(permit) = self.permit else { return };
        // In the background, since nobody can wait here; the permit's end time does the rest.
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            let (cache, key) = (self.cache.clone(), self.key.to_owned());
            runtime.spawn(async move {
                let give_back = Request::GiveBack { key: &key, permit, fail_all: false };
                drop(cache.ask(give_back).await);
            });
        }
    }
}

impl Cache {
    /// The value of a key, as JSON: from the cache if it is there, else from `refill`, whose value is
    /// stored for `lifetime`. Of all callers that miss a key at a time, in any process, one refills; the
    /// others wait for its value, or take over when it fails. A value that was read before the key was
    /// invalidated is not stored after it. Where the namespace's policy has it, one caller refills early
    /// while the others still have the value.
    ///
    /// Whatever is wrong with the cache, the value comes: when Verax does not answer within the bound
    /// of the options, when another caller takes too long, or when there is something that is no such
    /// value, `refill` is asked.
    ///
    /// # Errors
    /// Only those of `refill`.
    pub async fn get_or_refill<T: Serialize + DeserializeOwned, E>(
        &self,
        key: &str,
        lifetime: Duration,
        refill: impl AsyncFnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        let (holding, replace, previous) = match self.before(key, false).await {
            Before::Known(Some(value)) => return Ok(value),
            Before::Known(None) => (Holding::nothing(self, key), false, None),
            Before::Refill { holding, replace, previous } => (holding, replace, previous),
        };
        let started = Instant::now();
        let value = match (refill().await, previous) {
            (Err(_), Some(previous)) => return Ok(previous),
            (refilled, _) => refilled?,
        };
        self.note(CacheEvent::Refill, started);
        if let Ok(bytes) = serde_json::to_vec(&value) {
            self.keep(holding, replace, &bytes, "application/json", lifetime).await;
        }
        Ok(value)
    }

    /// [`get_or_refill`](Self::get_or_refill) where there may be no value: that there is none is kept too,
    /// for `negative_lifetime`, so that the origin is not asked for it again and again.
    ///
    /// # Errors
    /// Only those of `refill`.
    pub async fn find_or_refill<T: Serialize + DeserializeOwned, E>(
        &self,
        key: &str,
        lifetime: Duration,
        negative_lifetime: Duration,
        refill: impl AsyncFnOnce() -> Result<Option<T>, E>,
    ) -> Result<Option<T>, E> {
        let (holding, replace, previous) = match self.before(key, true).await {
            Before::Known(known) => return Ok(known),
            Before::Refill { holding, replace, previous } => (holding, replace, previous),
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
                    self.keep(holding, replace, &bytes, "application/json", lifetime).await;
                }
            }
            None => self.keep(holding, replace, b"", NEGATIVE_TYPE, negative_lifetime).await,
        }
        Ok(value)
    }

    /// Looks a key up and, where that is not enough, asks for the right to refill it. `negative` tells
    /// whether the word that there is no value is enough.
    async fn before<'c, T: DeserializeOwned>(
        &'c self,
        key: &'c str,
        negative: bool,
    ) -> Before<'c, T> {
        let flags = GetFlags { only_if_cached: true, may_refill: true, ..GetFlags::default() };
        let nothing = || Holding::nothing(self, key);
        let (mut holding, mut replace, mut previous) = (nothing(), false, None);
        let looked = self.look_up(key, flags, self.0.options.bound).await;
        let refresh = match looked {
            Ok(Looked::NoValue) if negative => return Before::Known(None),
            Ok(Looked::NoValue) => true,
            Ok(Looked::Miss) => false,
            Ok(Looked::Hit(hit)) => match serde_json::from_slice(&hit.value) {
                Ok(value) if !hit.due && hit.source != Source::Stale => {
                    return Before::Known(Some(value));
                }
                Ok(value) => {
                    previous = Some(value);
                    true
                }
                // What is no such value is put right.
                Err(_) => return Before::Refill { holding, replace: true, previous },
            },
            // Without Verax nothing is stored.
            Err(_) => return Before::Refill { holding, replace, previous },
        };
        match self.ask_for(key, refresh).await {
            Ok(Asked::Value(hit)) => match serde_json::from_slice(&hit.value) {
                Ok(value) => return Before::Known(Some(value)),
                Err(_) => replace = true,
            },
            Ok(Asked::NoValue) if negative => return Before::Known(None),
            Ok(Asked::Permit(permit)) => holding.permit = Some(permit),
            // Without a permit nothing is stored, since it could be old.
            Ok(Asked::Later | Asked::NoValue) | Err(_) => {
                if let Some(previous) = previous {
                    return Before::Known(Some(previous));
                }
            }
        }
        Before::Refill { holding, replace, previous }
    }

    /// Stores what a refill brought, if it may be stored.
    async fn keep(
        &self,
        mut holding: Holding<'_>,
        replace: bool,
        value: &[u8],
        media_type: &str,
        lifetime: Duration,
    ) {
        if !replace && holding.permit.is_none() {
            return;
        }
        let put = PutOptions {
            media_type: Some(media_type.into()),
            max_age: Some(lifetime),
            ..PutOptions::default()
        };
        let stored = self.store_refilled(holding.key, value, &put, holding.permit);
        // A permit that was not used up is given back, so that the next in line need not wait.
        if let Ok(Ok(_)) = tokio::time::timeout(self.0.options.bound, stored).await {
            holding.permit = None;
        }
    }

    /// Asks for a key, and waits while another caller refills it. With `refresh` the permit is wanted
    /// although something is there.
    async fn ask_for(&self, key: &str, refresh: bool) -> Result<Asked, ClientError> {
        let options = &self.0.options;
        let call = async {
            let mark = self.0.near.as_ref().map(|near| near.mark());
            let details = mark.is_some() || self.compresses();
            let link = self.0.pool.link().await?;
            let ask = Request::Ask {
                key,
                flags: AskFlags { stale: true, details, refresh },
                owner: "",
                hold: milliseconds(options.refill_hold),
                wait: milliseconds(options.refill_wait),
            };
            let number = link.open(&self.0.tenant, &self.0.namespace).await?;
            let undo = Some(Undo::Permit(key.to_owned()));
            let raw = link.call_or_undo(number, ask, undo).await?;
            match raw.reply() {
                Ok(Reply::Permit { permit, .. }) => Ok(Asked::Permit(permit)),
                Ok(Reply::Later { .. }) => Ok(Asked::Later),
                Ok(_) | Err(_) => match self.found(key, &raw, mark)? {
                    Looked::Hit(hit) => Ok(Asked::Value(hit)),
                    Looked::NoValue => Ok(Asked::NoValue),
                    Looked::Miss => Err(unexpected()),
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
        permit: Option<u64>,
    ) -> Result<bool, ClientError> {
        let Some(permit) = permit else { return self.store(key, value, options).await };
        let packed = self.packed(value, options);
        let put = put_frame(key, &packed, options, &[])?;
        let raw = self.ask(Request::PutWithPermit { permit, put }).await;
        self.forget(key);
        was_there(&raw?)
    }
}
