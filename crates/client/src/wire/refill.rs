//! The one call that replaces look-up, branch and store.

use std::time::{Duration, Instant};

use serde::Serialize;
use serde::de::DeserializeOwned;
use verax_wire::{AskFlags, GetFlags, Reply, Request};

use super::cache::{Cache, milliseconds, put_frame, unexpected, was_there};
use super::link::Undo;
use super::options::{CacheEvent, Hit};
use crate::entries::PutOptions;
use crate::error::ClientError;

/// What asking for a missing key came to.
enum Asked {
    /// Another caller brought the value.
    Value(Hit),
    /// It is for this caller to refill.
    Permit(u64),
    /// Another caller still refills.
    Later,
}

/// A permit that is given back, should the refill fail or be given up.
struct Holding<'c> {
    cache: &'c Cache,
    key: &'c str,
    permit: Option<u64>,
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
    /// invalidated is not stored after it.
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
        let options = &self.0.options;
        let cached = GetFlags { only_if_cached: true, ..GetFlags::default() };
        let found = self.look_up(key, cached, options.bound).await;
        let read = |hit: &Hit| serde_json::from_slice(&hit.value);
        let (mut holding, mut replace) = (Holding { cache: self, key, permit: None }, false);
        match found {
            Ok(Some(hit)) => match read(&hit) {
                Ok(value) => return Ok(value),
                // What is no such value is put right.
                Err(_) => replace = true,
            },
            Ok(None) => match self.ask_for(key).await {
                Ok(Asked::Value(hit)) => match read(&hit) {
                    Ok(value) => return Ok(value),
                    Err(_) => replace = true,
                },
                Ok(Asked::Permit(permit)) => holding.permit = Some(permit),
                // Without a permit nothing is stored, since it could be old.
                Ok(Asked::Later) | Err(_) => {}
            },
            Err(_) => {}
        }
        let started = Instant::now();
        let value = refill().await?;
        self.note(CacheEvent::Refill, started);
        if (replace || holding.permit.is_some())
            && let Ok(bytes) = serde_json::to_vec(&value)
        {
            let put = PutOptions {
                media_type: Some("application/json".into()),
                max_age: Some(lifetime),
                ..PutOptions::default()
            };
            let stored = self.store_refilled(key, &bytes, &put, holding.permit);
            // A permit that was not used up is given back, so that the next in line need not wait.
            if let Ok(Ok(_)) = tokio::time::timeout(options.bound, stored).await {
                holding.permit = None;
            }
        }
        Ok(value)
    }

    /// Asks for a key that is missing, and waits while another caller refills it.
    async fn ask_for(&self, key: &str) -> Result<Asked, ClientError> {
        let options = &self.0.options;
        let call = async {
            let mark = self.0.near.as_ref().map(|near| near.mark());
            let details = mark.is_some() || self.compresses();
            let link = self.0.pool.link().await?;
            let ask = Request::Ask {
                key,
                flags: AskFlags { stale: true, details },
                owner: "",
                hold: milliseconds(options.refill_hold),
                wait: milliseconds(options.refill_wait),
            };
            let number = link.open(&self.0.tenant, &self.0.namespace).await?;
            let undo = Some(Undo::Permit(key.to_owned()));
            let raw = link.call_or_undo(number, ask, undo).await?;
            match raw.reply()? {
                Reply::Permit { permit, .. } => Ok(Asked::Permit(permit)),
                Reply::Later { .. } => Ok(Asked::Later),
                Reply::Value(_) => {
                    self.found(key, &raw, mark)?.map(Asked::Value).ok_or_else(unexpected)
                }
                _ => Err(unexpected()),
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
