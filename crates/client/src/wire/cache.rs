//! A handle for service instances: fast look-ups that never make a service less available.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use serde::Serialize;
use serde::de::DeserializeOwned;
use verax_api::FailureKind;
use verax_core::Entry;
use verax_core::entry::{MAX_TAG_BYTES, MAX_TAGS, MediaType, Tag};
use verax_wire::{GetFlags, Lifetime, Put, Reply, Request, Tags, Value};

use super::breaker::Breaker;
use super::compress::{self, Packed};
use super::connect::Target;
use super::flights::Flights;
use super::link::{Link, RawReply};
use super::near::Near;
use super::options::{CacheEvent, CacheOptions, Hit, Looked, Page};
use super::pool::Pool;
use crate::addresses::Addresses;
use crate::connection::Client;
use crate::entries::{LifetimeOptions, PutCondition, PutOptions};
use crate::error::ClientError;
use verax_core::lifetime::CacheControl;
use verax_core::source::Source;
use verax_core::store::{Rate, RateLimitOutcome};

pub(super) struct Inner {
    pub(super) tenant: String,
    pub(super) namespace: String,
    pub(super) pool: Pool,
    pub(super) breaker: Breaker,
    pub(super) near: Option<Arc<Near>>,
    pub(super) options: CacheOptions,
    /// Refills that callers of this process are at.
    pub(super) flights: Flights,
}

/// A handle on one namespace of one tenant, over the wire protocol. It cannot be re-pointed, and
/// cloning it shares its connections and near copies.
///
/// ```no_run
/// use std::time::Duration;
/// use verax_client::{CacheOptions, Client};
///
/// # #[derive(serde::Serialize, serde::Deserialize)] struct Board { sailings: Vec<String> }
/// # async fn read_database() -> Result<Board, std::io::Error> { Ok(Board { sailings: vec![] }) }
/// # async fn example() -> Result<(), Box<dyn std::error::Error>> {
/// // Reads VERAX_WIRE_URL and VERAX_TOKEN.
/// let boards = Client::from_environment()?.cache("ferrydesk", "boards", CacheOptions::default())?;
/// let lifetime = Duration::from_secs(30);
/// let board: Board =
///     boards.get_or_refill("board/aldermouth", lifetime, async || read_database().await).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Cache(pub(super) Arc<Inner>);

impl fmt::Debug for Cache {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Cache({}/{} at {})", self.0.tenant, self.0.namespace, self.0.pool.address())
    }
}

impl Client {
    /// A handle on a namespace over the wire protocol. Nothing is connected yet.
    ///
    /// # Errors
    /// [`ClientError::Invalid`] when a name, the address or the certificates cannot be used.
    pub fn cache(
        &self,
        tenant: &str,
        namespace: &str,
        options: CacheOptions,
    ) -> Result<Cache, ClientError> {
        // Checks the names.
        self.namespace(tenant, namespace)?;
        let own = self.options();
        let mut named = own.wire.split(',').map(|a| Target::new(a.trim(), own.ca.as_deref()));
        let first = named.next().unwrap_or_else(|| Target::new("", None))?;
        let targets = Addresses::new(first, named.collect::<Result<_, _>>()?);
        let token = own.token.clone().unwrap_or_default();
        Ok(Cache(Arc::new(Inner {
            tenant: tenant.to_owned(),
            namespace: namespace.to_owned(),
            pool: Pool::new(targets, own, token, options.connections),
            breaker: Breaker::default(),
            near: options.near_copies.map(|near| Arc::new(Near::new(near))),
            options,
            flights: Flights::default(),
        })))
    }
}

pub(super) fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// A lifetime as it stands on the wire; parts that are not given are left to the namespace.
fn lifetime(options: LifetimeOptions) -> Option<Lifetime> {
    let LifetimeOptions { max_age, stale_while_revalidate, stale_if_error } = options;
    let given =
        CacheControl { max_age, stale_while_revalidate, stale_if_error, ..Default::default() };
    Lifetime::of(&given)
}

/// An entity tag with its quotes, as a number.
fn entity_tag(text: &str) -> Result<u128, ClientError> {
    u128::from_str_radix(text.trim().trim_matches('"'), 16)
        .map_err(|_| ClientError::Invalid(format!("{text:?} is not an entity tag")))
}

pub(super) fn put_frame<'a>(
    key: &'a str,
    packed: &'a Packed<'a>,
    options: &'a PutOptions,
    tags: &'a [&'a str],
) -> Result<Put<'a>, ClientError> {
    // What a frame has no place for is refused here: there it would be cut off, or end the
    // connection.
    let invalid = |error: String| ClientError::Invalid(error);
    MediaType::parse(&packed.media_type).map_err(|e| invalid(e.to_string()))?;
    if tags.len() > MAX_TAGS {
        let many = tags.len();
        return Err(invalid(format!(
            "an entry with {many} tags has too many: use at most {MAX_TAGS}"
        )));
    }
    tags.iter().try_for_each(|tag| checked_tag(tag).map(drop))?;
    Ok(Put {
        key: checked(key)?,
        value: &packed.value,
        media_type: &packed.media_type,
        lifetime: lifetime(LifetimeOptions {
            max_age: options.max_age,
            stale_while_revalidate: options.stale_while_revalidate,
            stale_if_error: options.stale_if_error,
        }),
        tags: Tags::of(tags),
        condition: match &options.condition {
            PutCondition::Always => verax_wire::PutCondition::Always,
            PutCondition::IfAbsent => verax_wire::PutCondition::IfAbsent,
            PutCondition::IfMatches(tag) => verax_wire::PutCondition::IfMatches(entity_tag(tag)?),
            PutCondition::IfRevision(revision) => verax_wire::PutCondition::IfRevision(*revision),
        },
        tell_revision: false,
    })
}

/// A tag that a frame has a place for.
pub(super) fn checked_tag(tag: &str) -> Result<&str, ClientError> {
    match tag.len() {
        1..=MAX_TAG_BYTES => Ok(tag),
        length => {
            let text = format!("a tag of {length} bytes is out of range: use 1 to {MAX_TAG_BYTES}");
            Err(ClientError::Invalid(text))
        }
    }
}

pub(super) fn checked(key: &str) -> Result<&str, ClientError> {
    verax_core::Key::new(key).map_err(|e| ClientError::Invalid(e.to_string()))?;
    Ok(key)
}

pub(super) fn hit(raw: &RawReply, value: &Value<'_>) -> Hit {
    Hit {
        value: raw.share(value.value),
        source: value.source,
        time_left: u64::try_from(value.time_left)
            .ok()
            .filter(|t| *t > 0)
            .map(Duration::from_millis),
        near: false,
        due: value.due,
        revision: value.revision,
    }
}

/// A reply that no request of this kind has.
pub(super) fn unexpected() -> ClientError {
    ClientError::NotVerax { url: "the wire".into(), reason: "it gave an unexpected reply".into() }
}

impl Cache {
    pub(super) fn note(&self, event: CacheEvent, started: Instant) {
        if let Some(hook) = &self.0.options.hook {
            hook(event, started.elapsed());
        }
    }

    pub(super) async fn within<T>(
        &self,
        bound: Duration,
        may_wait: bool,
        call: impl Future<Output = Result<T, ClientError>>,
    ) -> Result<T, ClientError> {
        let outcome = tokio::time::timeout(bound, call).await.unwrap_or_else(|_| {
            let url = self.0.pool.address();
            Err(ClientError::TimedOut { url, milliseconds: bound.as_millis() })
        });
        match &outcome {
            // A slow origin says nothing about Verax, which keeps giving signs of life meanwhile.
            Err(ClientError::TimedOut { .. }) if may_wait => {}
            Err(ClientError::Unreachable { .. } | ClientError::TimedOut { .. }) => {
                self.0.breaker.failed(Instant::now(), rand::random());
            }
            _ => self.0.breaker.succeeded(),
        }
        outcome
    }

    pub(super) async fn ask_on(
        &self,
        link: &Link,
        request: Request<'_>,
    ) -> Result<RawReply, ClientError> {
        let number = link.open(&self.0.tenant, &self.0.namespace).await?;
        link.call(number, request).await
    }

    pub(super) async fn ask(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        let call = async {
            let link = self.0.pool.link().await?;
            self.ask_on(&link, request).await
        };
        self.within(self.0.options.timeout, false, call).await
    }

    /// Sees to it that Verax tells what becomes untrue, if near copies are kept.
    async fn watch(&self) -> Result<(), ClientError> {
        let Some(near) = &self.0.near else { return Ok(()) };
        if near.watched.load(Ordering::Acquire) {
            return Ok(());
        }
        let _asking = near.asking.lock().await;
        if near.watched.load(Ordering::Acquire) {
            return Ok(());
        }
        let link = self.0.pool.first().await?;
        let number = link.open(&self.0.tenant, &self.0.namespace).await?;
        let told = Arc::downgrade(near);
        let watching = Arc::downgrade(&link);
        let sink = move |pushed: super::link::Pushed| {
            let Some(near) = told.upgrade() else { return };
            near.pushed(&pushed);
            if watching.upgrade().is_none_or(|link| link.is_broken()) {
                near.lost();
            }
        };
        link.watch(number, Box::new(sink)).await?;
        near.watched.store(true, Ordering::Release);
        // It may have broken before the mark was set.
        if link.is_broken() {
            near.lost();
        }
        Ok(())
    }

    /// Looks an entry up; where the namespace has an origin, a miss reads it through. `None` is a
    /// miss, or a value that the origin does not have.
    ///
    /// # Errors
    /// [`ClientError`]; a failure is never a miss.
    pub async fn get(&self, key: &str) -> Result<Option<Hit>, ClientError> {
        let looked = self.look_up(key, GetFlags::default(), self.0.options.timeout).await?;
        Ok(looked.hit())
    }

    /// [`get`](Self::get), with the revision of the entry in [`Hit::revision`]: a put with
    /// [`PutCondition::IfRevision`] stores only if nobody has stored or removed anything since.
    /// Never answered from a near copy.
    ///
    /// ```no_run
    /// # use verax_client::{Cache, ClientError, PutCondition, PutOptions};
    /// /// Adds a passenger to the list of a sailing; tells whether it was the last to change it.
    /// # async fn example(boards: &Cache) -> Result<bool, ClientError> {
    /// let Some(read) = boards.get_revised("passengers/a-17").await? else { return Ok(false) };
    /// let value = [&read.value, b"Imke\n".as_slice()].concat();
    /// let condition = read.revision.map_or(PutCondition::Always, PutCondition::IfRevision);
    /// let options = PutOptions { condition, ..PutOptions::default() };
    /// match boards.put("passengers/a-17", value, options).await {
    ///     Ok(_) => Ok(true),
    ///     Err(error) if error.failure() == Some(FailureKind::ConditionFailed) => Ok(false), // read it again
    ///     Err(error) => Err(error),
    /// }
    /// # }
    /// ```
    ///
    /// # Errors
    /// [`ClientError`]; a failure is never a miss.
    pub async fn get_revised(&self, key: &str) -> Result<Option<Hit>, ClientError> {
        let flags = GetFlags { revision: true, ..GetFlags::default() };
        Ok(self.look_up(key, flags, self.0.options.timeout).await?.hit())
    }

    pub(super) async fn look_up(
        &self,
        key: &str,
        flags: GetFlags,
        bound: Duration,
    ) -> Result<Looked, ClientError> {
        let started = Instant::now();
        checked(key)?;
        // A near copy does not know its revision, and may be a little behind.
        let near = self.0.near.as_ref().filter(|_| !flags.revision);
        if let Some(found) = near.and_then(|near| near.get(key)) {
            self.note(CacheEvent::NearHit, started);
            let time_left = match found.freshness() {
                verax_core::Freshness::Fresh(left) => Some(left),
                _ => None,
            };
            let value = found.bytes();
            let (source, near, due) = (Source::Hit, true, false);
            let revision = None;
            return Ok(Looked::Hit(Hit { value, source, time_left, near, due, revision }));
        }
        if !self.0.breaker.admits(started) {
            self.note(CacheEvent::Skipped, started);
            return Err(ClientError::Unreachable {
                url: self.0.pool.address(),
                reason: "it did not answer several times in a row, so it is left alone for a while"
                    .into(),
            });
        }
        let call = async {
            self.watch().await?;
            let mark = self.0.near.as_ref().map(|near| near.mark());
            let flags = GetFlags { details: mark.is_some() || self.compresses(), ..flags };
            let link = self.0.pool.link().await?;
            // Where as many calls wait as may, what the cache has need not wait behind them.
            if link.is_crowded() && !flags.only_if_cached && !flags.refresh {
                let flags = GetFlags { only_if_cached: true, ..flags };
                let raw = self.ask_on(&link, Request::Get { key, flags }).await?;
                match self.found(key, &raw, mark)? {
                    Looked::Miss => {}
                    found => return Ok(found),
                }
            }
            let raw = self.ask_on(&link, Request::Get { key, flags }).await?;
            self.found(key, &raw, mark)
        };
        let outcome = self.within(bound, !flags.only_if_cached, call).await;
        self.note(
            match &outcome {
                Ok(Looked::Hit(_)) => CacheEvent::Hit,
                Ok(Looked::Miss | Looked::NoValue) => CacheEvent::Miss,
                Err(_) => CacheEvent::Failure,
            },
            started,
        );
        outcome
    }

    pub(super) fn found(
        &self,
        key: &str,
        raw: &RawReply,
        mark: Option<u64>,
    ) -> Result<Looked, ClientError> {
        let value = match raw.reply() {
            Ok(Reply::Value(value)) => value,
            Ok(Reply::Miss) => return Ok(Looked::Miss),
            Ok(_) => return Err(unexpected()),
            Err(error) if error.failure() == Some(FailureKind::NoValue) => {
                return Ok(Looked::NoValue);
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
        Ok(Looked::Hit(hit))
    }

    pub(super) fn compresses(&self) -> bool {
        self.0.options.compress_from.is_some()
    }

    /// A value as it is to be stored.
    pub(super) fn packed<'a>(&self, value: &'a [u8], options: &'a PutOptions) -> Packed<'a> {
        let media_type = options.media_type.as_deref().unwrap_or("application/octet-stream");
        compress::packed(value, media_type, self.0.options.compress_from)
    }

    /// The value of a key as JSON, as [`put_json`](Self::put_json) stores it.
    ///
    /// # Errors
    /// [`ClientError`]; [`ClientError::Unreadable`] when the value is no such JSON.
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
    /// [`ClientError`]; [`ClientError::Invalid`] when the value cannot be written as JSON.
    pub async fn put_json(
        &self,
        key: &str,
        value: &impl Serialize,
        mut options: PutOptions,
    ) -> Result<bool, ClientError> {
        let bytes = serde_json::to_vec(value).map_err(|e| {
            ClientError::Invalid(format!("the value of {key:?} makes no JSON: {e}"))
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
        let raw = self.ask(Request::Put(put)).await;
        // Even a put that failed may have happened.
        self.forget(key);
        was_there(&raw?)
    }

    pub(super) fn forget(&self, key: &str) {
        if let Some(near) = &self.0.near {
            near.forget(key);
        }
    }

    /// Stores a value; returns whether it replaced one.
    ///
    /// # Errors
    /// [`ClientError`]; a condition that does not hold is the problem `condition-failed`.
    pub async fn put(
        &self,
        key: &str,
        value: impl AsRef<[u8]>,
        options: PutOptions,
    ) -> Result<bool, ClientError> {
        self.store(key, value.as_ref(), &options).await
    }

    /// Deletes an entry; returns whether it was there.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn delete(&self, key: &str) -> Result<bool, ClientError> {
        let raw = self.ask(Request::Delete { key: checked(key)? }).await;
        self.forget(key);
        was_there(&raw?)
    }

    /// Gives an entry another lifetime, counted from now; returns whether there is such an entry.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn set_lifetime(
        &self,
        key: &str,
        options: LifetimeOptions,
    ) -> Result<bool, ClientError> {
        let key = checked(key)?;
        let raw = self.ask(Request::SetLifetime { key, lifetime: lifetime(options) }).await;
        self.forget(key);
        match raw?.reply()? {
            Reply::Done { .. } => Ok(true),
            Reply::Miss => Ok(false),
            _ => Err(unexpected()),
        }
    }

    /// Ends every entry that carries a tag.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn invalidate_tag(&self, tag: &str) -> Result<(), ClientError> {
        let raw = self.ask(Request::InvalidateTag { tag: checked_tag(tag)? }).await;
        if let Some(near) = &self.0.near {
            near.pushed(&super::link::Pushed::Tag(tag.to_owned()));
        }
        was_there(&raw?).map(drop)
    }

    /// Adds to a counter; a missing one starts at 0 with `lifetime`. Returns its number.
    ///
    /// # Errors
    /// [`ClientError`]; what is no number is the problem `wrong-kind`. After a failure to reach
    /// Verax the addition may or may not have happened.
    pub async fn add(
        &self,
        key: &str,
        amount: i64,
        options: LifetimeOptions,
    ) -> Result<i64, ClientError> {
        let key = checked(key)?;
        let raw = self.ask(Request::Add { key, amount, lifetime: lifetime(options) }).await;
        self.forget(key);
        match raw?.reply()? {
            Reply::Counted { value, .. } => Ok(value),
            _ => Err(unexpected()),
        }
    }

    /// Acquires from a rate limit, if there is enough.
    ///
    /// # Errors
    /// [`ClientError`]; a rate that cannot be, or more than the burst, is the problem `invalid`.
    pub async fn acquire_rate(
        &self,
        key: &str,
        amount: u64,
        rate: Rate,
    ) -> Result<RateLimitOutcome, ClientError> {
        let request = Request::AcquireRate {
            key: checked(key)?,
            amount,
            count: rate.count(),
            period: milliseconds(rate.period()),
            burst: rate.burst(),
        };
        let raw = self.ask(request).await?;
        match raw.reply()? {
            Reply::RateAcquired { left } => Ok(RateLimitOutcome::Allowed { left }),
            Reply::Later { retry_after } => {
                Ok(RateLimitOutcome::Later { retry_after: Duration::from_millis(retry_after) })
            }
            _ => Err(unexpected()),
        }
    }

    /// A page of the keys that start with `prefix`, from `cursor` on.
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
        let raw = self.ask(Request::List { prefix, cursor, limit }).await?;
        match raw.reply()? {
            Reply::Page { cursor, entries } => Ok(Page {
                keys: entries.iter().map(|listed| listed.key.to_owned()).collect(),
                cursor: Some(cursor.to_owned()).filter(|cursor| !cursor.is_empty()),
            }),
            _ => Err(unexpected()),
        }
    }
}

pub(super) fn was_there(raw: &RawReply) -> Result<bool, ClientError> {
    done(raw.reply()?)
}

pub(super) fn done(reply: Reply<'_>) -> Result<bool, ClientError> {
    match reply {
        Reply::Done { was_there, .. } => Ok(was_there),
        _ => Err(unexpected()),
    }
}
