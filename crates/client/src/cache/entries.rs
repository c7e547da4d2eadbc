//! Entries: get, put, delete, and list.

use std::pin::pin;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::time::Instant;
use verax_api::FailureKind;
use verax_core::Entry;
use verax_core::entry::Tag;
use verax_core::source::Source;
use verax_wire::{GetFlags, Reply, Request};

use super::compress::{self, Packed};
use super::events::CacheEventKind;
use super::frames::{checked, hit, put_frame, unexpected, was_there};
use super::handle::Cache;
use super::options::{Hit, Page};
use crate::error::ClientError;
use crate::lookup::{Lookup, ReadOptions};
use crate::options::PutOptions;
use crate::wire::link::{Invalidation, RawReply};

/// The kind of event for a value from Verax. To the application, a value that the service read from
/// the origin is a miss.
fn kind_of(source: Source) -> CacheEventKind {
    match source {
        Source::Hit => CacheEventKind::Hit,
        Source::Stale => CacheEventKind::Stale,
        Source::StaleOnError => CacheEventKind::StaleOnError,
        Source::Origin | Source::Joined => CacheEventKind::Miss,
    }
}

impl Cache {
    /// Gets an entry; if the namespace has an origin, a miss reads it through. `None` is a miss or
    /// a negative entry.
    ///
    /// # Errors
    /// [`ClientError`]; a failure is never a miss.
    pub async fn get(&self, key: &str) -> Result<Option<Hit>, ClientError> {
        Ok(self.look_up(key, ReadOptions::default()).await?.found())
    }

    /// [`get`](Self::get), with the revision of the entry in [`Hit::revision`]: a put with
    /// [`IfRevision`](crate::PutCondition::IfRevision) stores only if the entry has not changed
    /// since. Never served from a near copy.
    ///
    /// ```no_run
    /// # use verax_client::{Cache, ClientError, FailureKind, PutCondition, PutOptions};
    /// /// Adds a passenger to the list of a sailing; tells whether it was the last to change it.
    /// # async fn example(boards: &Cache) -> Result<bool, ClientError> {
    /// let Some(read) = boards.get_revised("passengers/a-17").await? else { return Ok(false) };
    /// let value = [&read.value, b"Imke\n".as_slice()].concat();
    /// let condition = read.revision.map_or(PutCondition::Always, PutCondition::IfRevision);
    /// let options = PutOptions { condition, ..PutOptions::default() };
    /// match boards.put("passengers/a-17", value, options).await {
    ///     Ok(_) => Ok(true),
    ///     // Somebody else stored it meanwhile: read it again.
    ///     Err(error) if error.failure() == Some(FailureKind::ConditionFailed) => Ok(false),
    ///     Err(error) => Err(error),
    /// }
    /// # }
    /// ```
    ///
    /// # Errors
    /// [`ClientError`]; a failure is never a miss.
    pub async fn get_revised(&self, key: &str) -> Result<Option<Hit>, ClientError> {
        let options = ReadOptions { revision: true, ..ReadOptions::default() };
        Ok(self.look_up(key, options).await?.found())
    }

    /// Looks an entry up with options. Near copies serve only a look-up without any.
    ///
    /// # Errors
    /// [`ClientError`].
    pub fn look_up(
        &self,
        key: &str,
        options: ReadOptions,
    ) -> impl Future<Output = Result<Lookup<Hit>, ClientError>> + Send {
        let ReadOptions { refresh, only_if_cached, stale_if_error, details, revision } = options;
        let flags = GetFlags {
            only_if_cached,
            refresh,
            details,
            may_refill: false,
            revision,
            stale_if_error,
        };
        self.look_up_within(key, flags, self.0.options.timeout)
    }

    pub(super) async fn look_up_within(
        &self,
        key: &str,
        flags: GetFlags,
        bound: Duration,
    ) -> Result<Lookup<Hit>, ClientError> {
        let started = Instant::now();
        checked(key)?;
        // A near copy has no revision, and may be slightly outdated. A refill needs no details of
        // it.
        let asks = flags.revision || flags.refresh || (flags.details && !flags.may_refill);
        let near = self.0.near.as_ref().filter(|_| !asks);
        if let Some(found) = near.and_then(|near| near.get(key)) {
            self.note_with(CacheEventKind::NearHit, started, found.bytes().len(), None);
            let time_left = match found.freshness() {
                verax_core::Freshness::Fresh(left) => Some(left),
                _ => None,
            };
            let value = found.bytes();
            let (source, near, due) = (Source::Hit, true, false);
            let (revision, details) = (None, None);
            let hit = Hit { value, source, time_left, details, near, due, revision };
            return Ok(Lookup::Found(hit));
        }
        if self.0.lost.concerns(key) {
            let settled = tokio::time::timeout(bound, Box::pin(self.settle_lost(key))).await;
            settled.unwrap_or_else(|_| Err(self.timed_out(bound)))?;
        }
        if let Err(error) = self.admitted(started) {
            self.note_with(CacheEventKind::Skipped, started, 0, Some(&error));
            return Err(error);
        }
        let call = pin!(async {
            self.watch().await?;
            let mark = self.0.near.as_ref().map(|near| near.mark());
            let flags =
                GetFlags { details: flags.details || mark.is_some() || self.compresses(), ..flags };
            let connection = self.0.transport.connection().await?;
            // When the limit of waiting calls is reached, a cached value need not queue behind
            // them.
            if connection.is_crowded() && !flags.only_if_cached && !flags.refresh {
                let flags = GetFlags { only_if_cached: true, ..flags };
                let raw = self.call_on(&connection, &Request::Get { key, flags }, None).await?;
                match self.found(key, &raw, raw.reply(), mark)? {
                    Lookup::Miss => {}
                    found => return Ok(found),
                }
            }
            let raw = self.call_on(&connection, &Request::Get { key, flags }, None).await?;
            self.found(key, &raw, raw.reply(), mark)
        });
        let outcome = self.within(started, bound, !flags.only_if_cached, call).await;
        self.note_read(started, outcome.as_ref());
        outcome
    }

    pub(super) fn note_read(&self, started: Instant, outcome: Result<&Lookup<Hit>, &ClientError>) {
        let (kind, bytes) = match outcome {
            Ok(Lookup::Found(hit)) => (kind_of(hit.source), hit.value.len()),
            Ok(Lookup::NoValue) => (CacheEventKind::Negative, 0),
            Ok(Lookup::Miss) => (CacheEventKind::Miss, 0),
            Err(_) => (CacheEventKind::Failure, 0),
        };
        self.note_with(kind, started, bytes, outcome.err());
    }

    /// What a reply found; `raw` is the whole that it is part of.
    pub(super) fn found(
        &self,
        key: &str,
        raw: &RawReply,
        reply: Result<Reply<'_>, ClientError>,
        mark: Option<u64>,
    ) -> Result<Lookup<Hit>, ClientError> {
        let value = match reply {
            Ok(Reply::Value(value)) => value,
            Ok(Reply::Miss) => return Ok(Lookup::Miss),
            Ok(_) => return Err(unexpected()),
            Err(error) if error.failure() == Some(FailureKind::NoValue) => {
                return Ok(Lookup::NoValue);
            }
            Err(error) => return Err(error),
        };
        let mut hit = hit(raw, &value);
        if let Some(details) = value.details.filter(|_| self.compresses()) {
            hit.value = compress::unpacked(key, hit.value, details.media_type)?;
        }
        if let (Some(near), Some(mark), Some(left), Some(details)) =
            (&self.0.near, mark, hit.time_left, value.details)
        {
            let tags: Vec<Tag> = details.tags.iter().map(Tag::from).collect();
            let bare = verax_core::Lifetime::default();
            let at = verax_core::Timestamp::default();
            let entry = Entry::new(hit.value.clone(), details.media_type, bare, at).with_tags(tags);
            near.keep(key, mark, left, entry);
        }
        Ok(Lookup::Found(hit))
    }

    pub(super) fn compresses(&self) -> bool {
        self.0.options.compress_from.is_some()
    }

    /// A value, ready to store.
    pub(super) fn packed<'a>(&self, value: &'a [u8], options: &'a PutOptions) -> Packed<'a> {
        let media_type = options.media_type.as_deref().unwrap_or("application/octet-stream");
        compress::packed(value, media_type, self.0.options.compress_from)
    }

    /// The value of a key as JSON, as [`put_json`](Self::put_json) stores it.
    ///
    /// # Errors
    /// [`ClientError`]; [`ClientError::Unreadable`] if the value is not such JSON.
    pub async fn get_json<T: DeserializeOwned>(&self, key: &str) -> Result<Option<T>, ClientError> {
        let Some(hit) = self.get(key).await? else { return Ok(None) };
        let unreadable = |e: serde_json::Error| ClientError::Unreadable {
            key: key.into(),
            reason: e.to_string(),
        };
        serde_json::from_slice(&hit.value).map(Some).map_err(unreadable)
    }

    /// Stores a value as JSON; returns whether it replaced one.
    ///
    /// # Errors
    /// [`ClientError`]; [`ClientError::Invalid`] if the value cannot be serialized as JSON.
    pub async fn put_json(
        &self,
        key: &str,
        value: &impl Serialize,
        mut options: PutOptions,
    ) -> Result<bool, ClientError> {
        let bytes = serde_json::to_vec(value).map_err(|e| {
            ClientError::Invalid(format!("the value of {key:?} cannot be written as JSON: {e}"))
        })?;
        options.media_type.get_or_insert_with(|| "application/json".into());
        self.store(key, &bytes, &options).await
    }

    pub(super) async fn store(
        &self,
        key: &str,
        value: &[u8],
        options: &PutOptions,
    ) -> Result<bool, ClientError> {
        let tags: Vec<&str> = options.tags.iter().map(String::as_str).collect();
        let packed = self.packed(value, options);
        let put = put_frame(key, &packed, options, &tags)?;
        let started = Instant::now();
        let outcome = self.request(Request::Put(put)).await.and_then(|raw| was_there(&raw));
        // Even a failed put may have been stored.
        self.forget(key);
        self.note_with(CacheEventKind::Put, started, value.len(), outcome.as_ref().err());
        outcome
    }

    pub(super) fn forget(&self, key: &str) {
        if let Some(near) = &self.0.near {
            near.forget(key);
        }
    }

    /// Stores a value; returns whether it replaced one.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `condition-failed` if the condition does not hold.
    pub async fn put(
        &self,
        key: &str,
        value: impl AsRef<[u8]>,
        options: PutOptions,
    ) -> Result<bool, ClientError> {
        self.store(key, value.as_ref(), &options).await
    }

    /// Deletes an entry; returns whether it existed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete(&self, key: &str) -> Result<bool, ClientError> {
        let (started, delete) = (Instant::now(), Request::Delete { key: checked(key)? });
        let outcome = self.request(delete).await.and_then(|raw| was_there(&raw));
        self.forget(key);
        self.note_with(CacheEventKind::Delete, started, 0, outcome.as_ref().err());
        outcome
    }

    /// Removes every entry of the namespace, which needs the right to invalidate; returns the
    /// number of entries removed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn clear(&self) -> Result<u64, ClientError> {
        self.clear_those(None).await
    }

    /// Removes the entries whose keys start with `prefix`, which must not be empty; returns the
    /// number removed. Needs the right to invalidate.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn clear_prefix(&self, prefix: &str) -> Result<u64, ClientError> {
        self.clear_those(Some(checked(prefix)?)).await
    }

    async fn clear_those(&self, prefix: Option<&str>) -> Result<u64, ClientError> {
        let started = Instant::now();
        let outcome = self.request(Request::Clear { prefix }).await;
        let outcome = outcome.and_then(|raw| match raw.reply()? {
            Reply::Cleared { entries } => Ok(entries),
            _ => Err(unexpected()),
        });
        // Even a failed call may have cleared.
        if let Some(near) = &self.0.near {
            near.pushed(&Invalidation::All);
        }
        self.note_with(CacheEventKind::Invalidate, started, 0, outcome.as_ref().err());
        outcome
    }

    /// Lists a page of the keys that start with `prefix`, from `cursor` on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn list(
        &self,
        prefix: &str,
        cursor: Option<&str>,
        limit: u16,
    ) -> Result<Page, ClientError> {
        let cursor = cursor.unwrap_or("");
        let raw = self.request(Request::List { prefix, cursor, limit }).await?;
        match raw.reply()? {
            Reply::Page { cursor, entries } => Ok(Page {
                keys: entries.iter().map(|listed| listed.key.to_owned()).collect(),
                cursor: Some(cursor.to_owned()).filter(|cursor| !cursor.is_empty()),
            }),
            _ => Err(unexpected()),
        }
    }
}
