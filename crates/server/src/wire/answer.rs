//! Answering requests about entries.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::FutureExt;
use tokio::io::{AsyncRead, AsyncWrite};
use verax_api::FailureKind;
use verax_control::ControlError;
use verax_core::entry::MediaType;
use verax_core::lifetime::CacheControl;
use verax_core::store::{AddError, EntryView, Position, RateLimitError, RateLimitOutcome};
use verax_core::{EntityTag, EntryRevision, Freshness, Key, Precondition, Timestamp};
use verax_engine::cache::{
    Answer, BatchAccess, Cached, Operation, Outcome, PutRequest, ReadOptions, Source, Stored,
    Written, checked_tags,
};
use verax_engine::in_flight::{InFlightBudget, InFlightReservation, SMALL};
use verax_engine::turns::TenantTurns;
use verax_engine::{EngineError, Reader, Refiller, Writer};
use verax_service::Service;
use verax_wire::{
    BatchReplies, Details, Frame, GetFlags, Lifetime, Listed, Page, Put, Reply, Request, Tags,
    Value,
};

use crate::failure::Failure;

use super::connection::{Connection, Opened};
use super::locks::LockAsked;
use super::outbox::{Encoded, Outbox};
use super::permits::PermitAsked;

/// Hits that one read brought, counted together: the clock is read and the counters are touched
/// once.
#[derive(Debug, Default)]
pub(super) struct Hits {
    started: Option<(Instant, Timestamp)>,
    of: Option<Reader>,
    fresh: u64,
    stale: u64,
}

impl Hits {
    fn add(&mut self, reader: &Reader, fresh: bool) {
        if !self.of.as_ref().is_some_and(|of| of.same(reader)) {
            self.count();
            self.of = Some(reader.clone());
        }
        if fresh { self.fresh += 1 } else { self.stale += 1 }
    }

    /// When the first look-up of this read began: the time for all of them.
    fn begin(&mut self, service: &Service) -> Timestamp {
        self.started.get_or_insert_with(|| (Instant::now(), service.engine().now())).1
    }

    /// Adds what was collected to the namespace's counters.
    pub(super) fn count(&mut self) {
        let Some(reader) = self.of.take() else { return };
        let (fresh, stale) = (std::mem::take(&mut self.fresh), std::mem::take(&mut self.stale));
        let took = self.started.map_or(Duration::ZERO, |(started, _)| started.elapsed());
        let each = took / u32::try_from(fresh + stale).unwrap_or(1).max(1);
        reader.count_hits(fresh, stale, each);
    }
}

pub(super) fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

pub(super) fn key(text: &str) -> Result<Key, Failure> {
    Key::new(text).map_err(Failure::invalid)
}

fn lifetime(given: Option<Lifetime>) -> Result<CacheControl, Failure> {
    let Some(given) = given else { return Ok(CacheControl::default()) };
    let part = |milliseconds| {
        if milliseconds == Lifetime::NOT_GIVEN {
            return Ok(None);
        }
        let time = Duration::from_millis(milliseconds);
        match time <= verax_core::lifetime::MAX_LIFETIME {
            true => Ok(Some(time)),
            false => Err(Failure::invalid("a lifetime is longer than ten years")),
        }
    };
    Ok(CacheControl {
        max_age: part(given.max_age)?,
        stale_while_revalidate: part(given.stale_while_revalidate)?,
        stale_if_error: part(given.stale_if_error)?,
        ..CacheControl::default()
    })
}

pub(super) fn put_request(put: &Put<'_>) -> Result<PutRequest, Failure> {
    Ok(PutRequest {
        value: Bytes::copy_from_slice(put.value),
        media_type: MediaType::parse(put.media_type).map_err(Failure::invalid)?,
        cache_control: lifetime(put.lifetime)?,
        tags: checked_tags(put.tags.iter()).map_err(Failure::invalid)?,
        condition: match put.condition {
            verax_wire::PutCondition::Always => Precondition::Always,
            verax_wire::PutCondition::IfAbsent => Precondition::IfAbsent,
            verax_wire::PutCondition::IfMatches(tag) => {
                Precondition::IfMatches(vec![EntityTag::from_number(tag)])
            }
            verax_wire::PutCondition::IfRevision(revision) => {
                Precondition::IfRevision(EntryRevision::from_number(revision))
            }
        },
    })
}

/// Milliseconds until something is stale; 0 or less when it is.
fn time_left(freshness: Freshness) -> i64 {
    match freshness {
        Freshness::Fresh(left) => left.as_millis() as i64,
        Freshness::Stale(since) | Freshness::OnlyOnError(since) => -(since.as_millis() as i64),
        Freshness::Ended => 0,
    }
}

/// What a reply tells about an entry beside its value.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Telling {
    pub(super) details: bool,
    pub(super) revision: bool,
}

impl From<GetFlags> for Telling {
    fn from(flags: GetFlags) -> Self {
        Self { details: flags.details, revision: flags.revision }
    }
}

/// The reply to a look-up that was answered at length.
pub(super) fn with_answer<T>(
    service: &Service,
    answer: &Answer,
    telling: Telling,
    give: impl FnOnce(Value<'_>) -> T,
) -> T {
    let tags: Vec<&str> = answer.entry.tags.iter().map(|tag| &**tag).collect();
    give(value_of(service, answer, telling, &tags))
}

/// An answer as a reply tells it; `tags` are those of its entry.
fn value_of<'a>(
    service: &Service,
    answer: &'a Answer,
    telling: Telling,
    tags: &'a [&'a str],
) -> Value<'a> {
    let source = match answer.source {
        Source::Hit(_) => verax_wire::Source::Hit,
        Source::Stale(_) => verax_wire::Source::Stale,
        Source::StaleOnError(_) => verax_wire::Source::StaleOnError,
        Source::Origin(_) => verax_wire::Source::Origin,
        Source::Joined(_) => verax_wire::Source::Joined,
    };
    let entry = &answer.entry;
    let details = telling.details.then(|| Details {
        age: answer.age.as_millis() as u64,
        entity_tag: entry.entity_tag().number(),
        media_type: entry.media_type.as_str(),
        tags: Tags::of(tags),
    });
    let time_left = time_left(entry.freshness(service.engine().now()));
    let revision = entry.revision.filter(|_| telling.revision).map(EntryRevision::number);
    Value { source, time_left, details, revision, value: &entry.value }
}

impl Opened {
    pub(super) fn reads(&self) -> Result<&Reader, Failure> {
        self.reads.as_ref().map_err(|error| error.clone().into())
    }

    pub(super) fn refills(&self) -> Result<Refiller, Failure> {
        let refiller = Refiller::of(self.reads()?, self.writes()?);
        refiller.ok_or_else(|| Failure::new(FailureKind::NotFound, "the namespace is gone"))
    }

    /// The memory for values of the namespace on their way in and out.
    pub(super) fn in_flight(&self) -> Option<&InFlightBudget> {
        let reads = self.reads.as_ref().map(|reader| reader.in_flight());
        reads.or_else(|_| self.writes.as_ref().map(|writer| writer.in_flight())).ok()
    }

    /// The turns of its tenant at the processors.
    pub(super) fn turns(&self) -> Option<&Arc<TenantTurns>> {
        let reads = self.reads.as_ref().map(|reader| reader.turns());
        reads.or_else(|_| self.writes.as_ref().map(|writer| writer.turns())).ok()
    }

    fn batch_access(&self) -> BatchAccess<ControlError> {
        BatchAccess { reads: self.reads.clone(), writes: self.writes.clone() }
    }

    pub(super) fn writes(&self) -> Result<&Writer, Failure> {
        self.writes.as_ref().map_err(|error| error.clone().into())
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> Connection<S> {
    pub(super) fn opened(&self, number: u16) -> Result<&Opened, Failure> {
        let opened = usize::from(number).checked_sub(1).and_then(|at| self.opened.get(at));
        opened.ok_or_else(|| {
            let detail = format!("no namespace was opened under the number {number}");
            Failure::new(FailureKind::NotFound, detail)
        })
    }

    /// Answers a request, at once or by a task of its own.
    pub(super) fn answer(
        &mut self,
        frame: Frame,
        request: Request<'_>,
        hits: &mut Hits,
    ) -> Result<(), Failure> {
        let opened = self.opened(frame.namespace)?;
        match request {
            Request::Get { key, flags } => self.get(frame, key, flags, hits),
            Request::Put(put) => {
                let written = opened.writes()?.put(&key(put.key)?, put_request(&put)?, None);
                self.written(frame, written, done_of(&put))
            }
            Request::Delete { key: text } => {
                let written = opened.writes()?.delete(&key(text)?, Precondition::Always, None);
                self.written(frame, written, Reply::done)
            }
            Request::SetLifetime { key: text, lifetime: given } => {
                let lifetime = lifetime(given)?;
                let condition = Precondition::Always;
                let writes = opened.writes()?;
                let found = writes.set_lifetime(&key(text)?, lifetime, &condition)?;
                let reply = match found {
                    Some(_) => Reply::done(true),
                    None => Reply::Miss,
                };
                self.outbox.add(frame, &reply);
                Ok(())
            }
            Request::InvalidateTag { tag } => {
                let writer = opened.writes()?;
                checked_tags([tag]).map_err(Failure::invalid)?;
                let was_there = writer.invalidate_tag(tag);
                self.outbox.add(frame, &Reply::done(was_there));
                Ok(())
            }
            Request::Add { key: text, amount, lifetime: given } => {
                let lifetime = lifetime(given)?;
                let counted = opened.writes()?.add(&key(text)?, amount, lifetime);
                let counted = counted.map_err(|error: AddError| Failure::wrong_kind(&error))?;
                let reply = Reply::Counted { value: counted.value, created: counted.created };
                self.outbox.add(frame, &reply);
                Ok(())
            }
            Request::AcquireRate { key: text, amount, rate } => {
                let period = Duration::from_millis(rate.period);
                let rate = verax_core::store::Rate::new(rate.count, period, rate.burst);
                let rate = rate.map_err(Failure::invalid)?;
                let acquired = opened.writes()?.acquire_rate(&key(text)?, amount, rate);
                let reply = match acquired {
                    Ok(RateLimitOutcome::Allowed { left }) => Reply::RateAcquired { left },
                    Ok(RateLimitOutcome::Later { retry_after }) => {
                        Reply::Later { retry_after: retry_after.as_millis() as u64 }
                    }
                    Err(error @ RateLimitError::NotARateLimit) => {
                        return Err(Failure::wrong_kind(&error));
                    }
                    Err(error) => return Err(Failure::invalid(error)),
                };
                self.outbox.add(frame, &reply);
                Ok(())
            }
            Request::List { prefix, cursor, most } => {
                let from = if cursor.is_empty() { Ok(Position::default()) } else { cursor.parse() };
                let from = from.map_err(Failure::invalid)?;
                let now = self.service.engine().now();
                let listing = opened.reads()?.list(prefix, from, most.into(), now)?;
                let kinds: Vec<MediaType> =
                    listing.entries.iter().map(|listed| listed.found.media_type()).collect();
                let entries = listing.entries.iter().zip(&kinds);
                let entries: Vec<Listed<'_>> =
                    entries.map(|(listed, kind)| described(listed, kind, now)).collect();
                let cursor = listing.next.map(|next| next.to_string()).unwrap_or_default();
                self.outbox.add(frame, &Reply::Page(Page::of(&cursor, &entries)));
                Ok(())
            }
            Request::Batch(operations) => {
                // What cannot be understood is answered in its place, beside what can.
                let read: Vec<_> = operations.iter().map(operation).collect();
                let telling = operations.iter().map(|request| match request {
                    Request::Get { flags, .. } => flags.into(),
                    Request::Put(put) => Telling { revision: put.tell_revision, details: false },
                    _ => Telling::default(),
                });
                let telling = telling.collect();
                self.batch(frame, read, telling)
            }
            Request::Lock { name, owner, lease, wait, ends_with_connection } => {
                self.lock(frame, LockAsked { name, owner, lease, wait, ends_with_connection })
            }
            Request::Renew { name, token, lease } => self.renew(frame, name, token, lease),
            Request::Release { name, token } => self.release(frame, name, token),
            Request::Look { name } => self.look_at(frame, name),
            Request::Ask { key, flags, owner, lease, wait } => {
                self.ask(frame, PermitAsked { key, flags, owner, lease, wait })
            }
            Request::PutWithPermit { permit, put } => self.put_with_permit(frame, permit, &put),
            Request::GiveBack { key, permit, fail_all } => {
                self.give_back(frame, key, permit, fail_all)
            }
            Request::Watch => {
                let reader = opened.reads()?.clone();
                self.watch(frame.namespace, &reader);
                self.outbox.add(frame, &Reply::done(true));
                Ok(())
            }
            Request::Hello(_) | Request::Open { .. } | Request::Ping | Request::Goodbye => {
                Err(Failure::invalid("this request is not about entries"))
            }
        }
    }

    fn get(
        &mut self,
        frame: Frame,
        text: &str,
        flags: GetFlags,
        hits: &mut Hits,
    ) -> Result<(), Failure> {
        let opened = usize::from(frame.namespace).checked_sub(1).and_then(|at| self.opened.get(at));
        // The usual case alone is quick; what is wrong is found out below.
        if let Some(Opened { reads: Ok(reader), .. }) = opened
            && !flags.refresh
        {
            let (outbox, now) = (&mut self.outbox, hits.begin(&self.service));
            let mut busy = None;
            let cached = reader.cached(text, now, |visited, due| {
                let due = due && flags.may_refill;
                match reader.in_flight().reserve(visited.value().len()) {
                    Ok(place) => {
                        add_visited(outbox, frame, (visited, due), flags.into(), now, place)
                    }
                    Err(error) => busy = Some(error),
                }
            });
            if let Some(error) = busy {
                return Err(error.into());
            }
            match cached {
                Cached::Hit | Cached::Due | Cached::Stale => {
                    hits.add(reader, cached != Cached::Stale);
                    return Ok(());
                }
                Cached::Negative(left) => {
                    reader.count_negative();
                    return Err(EngineError::NegativeResult { left }.into());
                }
                Cached::Missing if flags.only_if_cached || !reader.has_origin() => {
                    reader.count_miss();
                    self.outbox.add(frame, &Reply::Miss);
                    return Ok(());
                }
                Cached::Missing => {}
            }
        }
        self.read_through(frame, text, flags)
    }

    /// Begins what may have to wait, if there is memory for one more that does. It takes its place
    /// in queues now, in the order of the requests; what is not done with that is done by a task of
    /// its own.
    pub(super) fn carry_out(
        &mut self,
        frame: Frame,
        work: impl Future<Output = Encoded> + Send + 'static,
    ) -> Result<(), Failure> {
        let budget = self.opened(frame.namespace)?.in_flight();
        let waits = budget.unwrap_or_else(|| self.service.engine().in_flight()).reserve_wait()?;
        self.begin(async move {
            let _waits = waits;
            work.await
        });
        Ok(())
    }

    /// Begins what has its memory already.
    fn begin(&mut self, work: impl Future<Output = Encoded> + Send + 'static) {
        let mut work = Box::pin(work);
        match (&mut work).now_or_never() {
            Some(encoded) => self.outbox.add_encoded(encoded),
            None => drop(self.waiting.spawn(work)),
        }
    }

    /// Reads the origin in a task of its own, since that takes long.
    fn read_through(&mut self, frame: Frame, text: &str, flags: GetFlags) -> Result<(), Failure> {
        let reader = self.opened(frame.namespace)?.reads()?.clone();
        let (service, key) = (Arc::clone(&self.service), key(text)?);
        let options = ReadOptions {
            refresh: flags.refresh,
            only_if_cached: flags.only_if_cached,
            trace: None,
        };
        let replies = self.replies.clone();
        self.carry_out(frame, async move {
            let answer = reader.read(&key, options).await.and_then(|answer| {
                let size = answer.as_ref().map_or(0, Answer::size);
                let mut place = replies.reserve_all(size)?;
                place.join(reader.in_flight().reserve_all(size)?);
                Ok((answer, place))
            });
            let mut encoded = Encoded::default();
            match answer {
                Ok((Some(answer), place)) => {
                    encoded.place = place;
                    with_answer(&service, &answer, flags.into(), |value| {
                        Reply::Value(value).encode(frame, &mut encoded.frames);
                    });
                }
                Ok((None, _)) => Reply::Miss.encode(frame, &mut encoded.frames),
                Err(error) => fail(frame, &error.into(), &mut encoded.frames),
            }
            encoded
        })
    }

    /// Replies to a write: when it is done, which takes a task of its own where the origin is asked
    /// first.
    fn written<T: Send + 'static>(
        &mut self,
        frame: Frame,
        written: Written<T>,
        reply: fn(T) -> Reply<'static>,
    ) -> Result<(), Failure> {
        match written {
            Written::Now(done) => {
                self.outbox.add(frame, &reply(done?));
            }
            Written::Later(writing) => self.begin(async move {
                let mut encoded = Encoded::default();
                match writing.await.map(reply) {
                    Ok(reply) => reply.encode(frame, &mut encoded.frames),
                    Err(error) => fail(frame, &error.into(), &mut encoded.frames),
                }
                encoded
            }),
        }
        Ok(())
    }

    fn batch(
        &mut self,
        frame: Frame,
        operations: Vec<Result<Operation, Failure>>,
        telling: Vec<Telling>,
    ) -> Result<(), Failure> {
        let opened = self.opened(frame.namespace)?;
        let (access, budget) = (opened.batch_access(), opened.in_flight().cloned());
        let (service, replies) = (Arc::clone(&self.service), self.replies.clone());
        self.carry_out(frame, async move {
            let (mut understood, mut places) = (Vec::new(), Vec::new());
            for operation in operations {
                places.push(operation.map(|operation| understood.push(operation)).err());
            }
            let mut outcomes = access.carry_out(understood).await.into_iter();
            let outcomes: Vec<Result<Outcome<ControlError>, Failure>> = places
                .into_iter()
                .filter_map(|refused| refused.map(Err).or_else(|| outcomes.next().map(Ok)))
                .collect();
            let mut encoded = Encoded::default();
            let size = outcomes.iter().flatten().map(size).sum();
            let reserved = replies.reserve_all(size).and_then(|mut place| {
                place.join(budget.unwrap_or_else(|| replies.clone()).reserve_all(size)?);
                Ok(place)
            });
            match reserved {
                Ok(place) => encoded.place = place,
                Err(error) => {
                    fail(frame, &error.into(), &mut encoded.frames);
                    return encoded;
                }
            }
            let failures: Vec<Option<Failure>> =
                outcomes.iter().map(|outcome| outcome.as_ref().ok().and_then(failure_of)).collect();
            let tags: Vec<Vec<&str>> =
                outcomes.iter().map(|outcome| outcome.as_ref().map_or(vec![], tags_of)).collect();
            let replies: Vec<Reply<'_>> = outcomes
                .iter()
                .zip(&failures)
                .zip(tags.iter().zip(telling))
                .map(|((outcome, failure), (tags, telling))| match outcome {
                    Ok(outcome) => reply(&service, outcome, failure.as_ref(), telling, tags),
                    Err(refused) => refused.reply(),
                })
                .collect();
            Reply::Batch(BatchReplies::of(&replies)).encode(frame, &mut encoded.frames);
            encoded
        })
    }
}

pub(super) fn fail(frame: Frame, failure: &Failure, out: &mut Vec<u8>) {
    failure.reply().encode(frame, out);
}

/// How many bytes of values an outcome brings.
fn size(outcome: &Outcome<ControlError>) -> usize {
    match outcome {
        Outcome::Got(Ok(Some(answer))) => answer.size(),
        _ => 0,
    }
}

fn add_visited(
    outbox: &mut Outbox,
    frame: Frame,
    (visited, due): (&EntryView<'_>, bool),
    telling: Telling,
    now: Timestamp,
    place: InFlightReservation,
) {
    if visited.value().len() > SMALL {
        outbox.hold(place);
    }
    let source = match visited.freshness() {
        Freshness::Fresh(_) if due => verax_wire::Source::Due,
        Freshness::Fresh(_) => verax_wire::Source::Hit,
        _ => verax_wire::Source::Stale,
    };
    let time_left = time_left(visited.freshness());
    let revision = telling.revision.then(|| visited.revision().number());
    let value = Value { source, time_left, details: None, revision, value: visited.value() };
    if !telling.details {
        return outbox.add_value(frame, value, || visited.found());
    }
    let found = visited.found();
    let (media_type, tags) = (found.media_type(), found.tags());
    let tags: Vec<&str> = tags.iter().map(|tag| &**tag).collect();
    let details = Some(Details {
        age: now.since(found.stored_at()).as_millis() as u64,
        entity_tag: found.entity_tag().number(),
        media_type: media_type.as_str(),
        tags: Tags::of(&tags),
    });
    outbox.add_value(frame, Value { details, ..value }, || found.clone());
}

fn described<'a>(
    listed: &'a verax_core::store::Listed,
    media_type: &'a MediaType,
    now: Timestamp,
) -> Listed<'a> {
    let found = &listed.found;
    Listed {
        key: found.key(),
        value_bytes: found.value().len() as u64,
        age: now.since(found.stored_at()).as_millis() as u64,
        time_left: time_left(found.freshness()),
        media_type: media_type.as_str(),
    }
}

fn operation(request: Request<'_>) -> Result<Operation, Failure> {
    match request {
        Request::Get { key: text, flags } => {
            let GetFlags { refresh, only_if_cached, .. } = flags;
            let options = ReadOptions { refresh, only_if_cached, trace: None };
            Ok(Operation::Get(key(text)?, options))
        }
        Request::Put(put) => Ok(Operation::Put(key(put.key)?, put_request(&put)?)),
        Request::Delete { key: text } => Ok(Operation::Delete(key(text)?)),
        _ => Err(Failure::invalid("a batch holds look-ups, puts and deletes")),
    }
}

/// How a put is answered that was done.
fn done_of(put: &Put<'_>) -> fn(Stored) -> Reply<'static> {
    match put.tell_revision {
        true => |stored| revised(&stored),
        false => |stored| Reply::done(stored.replaced),
    }
}

fn revised(stored: &Stored) -> Reply<'static> {
    let revision = stored.entry.revision.map(EntryRevision::number);
    Reply::Done { was_there: stored.replaced, revision }
}

fn failure_of(outcome: &Outcome<ControlError>) -> Option<Failure> {
    match outcome {
        Outcome::Got(Err(error)) | Outcome::Put(Err(error)) | Outcome::Deleted(Err(error)) => {
            Some(error.clone().into())
        }
        _ => None,
    }
}

fn tags_of(outcome: &Outcome<ControlError>) -> Vec<&str> {
    match outcome {
        Outcome::Got(Ok(Some(answer))) => answer.entry.tags.iter().map(|tag| &**tag).collect(),
        _ => Vec::new(),
    }
}

/// The reply to one operation of a batch; `tags` are those of the entry that it found.
fn reply<'a>(
    service: &Service,
    outcome: &'a Outcome<ControlError>,
    failure: Option<&'a Failure>,
    telling: Telling,
    tags: &'a [&'a str],
) -> Reply<'a> {
    match (outcome, failure) {
        (_, Some(failure)) => failure.reply(),
        (Outcome::Got(Ok(Some(answer))), _) => {
            Reply::Value(value_of(service, answer, telling, tags))
        }
        (Outcome::Put(Ok(stored)), _) if telling.revision => revised(stored),
        (
            Outcome::Put(Ok(Stored { replaced: was_there, .. })) | Outcome::Deleted(Ok(was_there)),
            _,
        ) => Reply::done(*was_there),
        _ => Reply::Miss,
    }
}
