//! Answering requests about entries.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use tokio::io::{AsyncRead, AsyncWrite};
use verax_core::lifetime::CacheControl;
use verax_core::store::{AddError, Position, TakeError, Taken, Visited};
use verax_core::{EntityTag, Freshness, Key, Precondition, Timestamp};
use verax_service::cache::{
    Answer, BatchAccess, Cached, Operation, Outcome, PutRequest, ReadOptions, Source, checked_tags,
};
use verax_service::transit::{Place, SMALL};
use verax_service::{Namespace, Service, ServiceError};
use verax_wire::{
    BatchReplies, Details, FailureCode, Frame, GetFlags, Lifetime, Listed, Page, Put, Reply,
    Request, Tags, Value,
};

use super::connection::{Connection, Opened};
use super::failure::Failure;
use super::guards::{LockAsked, PermitAsked};
use super::outbox::{Encoded, Outbox};

/// Hits that one read brought, counted together: the clock is read and the counters are touched once.
#[derive(Debug, Default)]
pub(super) struct Hits {
    started: Option<(Instant, Timestamp)>,
    of: Option<Arc<Namespace>>,
    fresh: u64,
    stale: u64,
}

impl Hits {
    fn add(&mut self, namespace: &Arc<Namespace>, fresh: bool) {
        if !self.of.as_ref().is_some_and(|of| Arc::ptr_eq(of, namespace)) {
            self.count();
            self.of = Some(Arc::clone(namespace));
        }
        if fresh { self.fresh += 1 } else { self.stale += 1 }
    }

    /// When the first look-up of this read began: the time for all of them.
    fn begin(&mut self, service: &Service) -> Timestamp {
        self.started.get_or_insert_with(|| (Instant::now(), service.now())).1
    }

    /// Adds what was collected to the namespace's counters.
    pub(super) fn count(&mut self) {
        let Some(namespace) = self.of.take() else { return };
        let (fresh, stale) = (std::mem::take(&mut self.fresh), std::mem::take(&mut self.stale));
        let took = self.started.map_or(Duration::ZERO, |(started, _)| started.elapsed());
        let each = took / u32::try_from(fresh + stale).unwrap_or(1).max(1);
        namespace.counters().count_hits(fresh, stale, each);
    }
}

pub(super) fn key(text: &str) -> Result<Key, Failure> {
    Key::new(text).map_err(Failure::invalid)
}

fn lifetime(given: Option<Lifetime>) -> Result<CacheControl, Failure> {
    let Some(given) = given else { return Ok(CacheControl::default()) };
    let part = |milliseconds| {
        let time = Duration::from_millis(milliseconds);
        match time <= verax_core::lifetime::LONGEST_LIFETIME {
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
        media_type: put.media_type.into(),
        cache_control: lifetime(put.lifetime)?,
        tags: checked_tags(put.tags.iter()).map_err(Failure::invalid)?,
        condition: match put.condition {
            verax_wire::PutCondition::Always => Precondition::Always,
            verax_wire::PutCondition::IfAbsent => Precondition::IfAbsent,
            verax_wire::PutCondition::IfMatches(tag) => {
                Precondition::IfMatches(vec![EntityTag::from_number(tag)])
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

/// The reply to a look-up that was answered at length.
pub(super) fn with_answer<T>(
    service: &Service,
    answer: &Answer,
    details: bool,
    give: impl FnOnce(Value<'_>) -> T,
) -> T {
    let source = match answer.source {
        Source::Hit(_) => verax_wire::Source::Hit,
        Source::Stale(_) => verax_wire::Source::Stale,
        Source::StaleOnError(_) => verax_wire::Source::StaleOnError,
        Source::Origin(_) => verax_wire::Source::Origin,
        Source::Joined(_) => verax_wire::Source::Joined,
    };
    let entry = &answer.entry;
    let tags: Vec<&str> = entry.tags.iter().map(|tag| &**tag).collect();
    let details = details.then(|| Details {
        age: answer.age.as_millis() as u64,
        entity_tag: entry.entity_tag().number(),
        media_type: entry.media_type.as_str(),
        tags: Tags::of(&tags),
    });
    let time_left = time_left(entry.freshness(service.now()));
    give(Value { source, time_left, details, value: &entry.value })
}

impl Opened {
    pub(super) fn reads(&self) -> Result<&Arc<Namespace>, Failure> {
        self.reads.as_ref().map_err(|error| error.clone().into())
    }

    fn batch_access(&self) -> BatchAccess {
        BatchAccess { reads: self.reads.clone(), writes: self.writes.clone() }
    }

    pub(super) fn writes(&self) -> Result<&Arc<Namespace>, Failure> {
        self.writes.as_ref().map_err(|error| error.clone().into())
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> Connection<S> {
    pub(super) fn opened(&self, number: u16) -> Result<&Opened, Failure> {
        let opened = usize::from(number).checked_sub(1).and_then(|at| self.opened.get(at));
        opened.ok_or_else(|| {
            let detail = format!("no namespace was opened under the number {number}");
            Failure::new(FailureCode::NotFound, detail)
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
            Request::Put(put) if opened.writes()?.writes_through() => {
                let (key, request) = (key(put.key)?, put_request(&put)?);
                self.write_through(frame, key, Some(request))
            }
            Request::Put(put) => {
                let namespace = opened.writes()?;
                let (_, was_there) =
                    self.service.put(namespace, &key(put.key)?, put_request(&put)?)?;
                self.outbox.add(frame, &Reply::Done { was_there });
                Ok(())
            }
            Request::Delete { key: text } if opened.writes()?.writes_through() => {
                self.write_through(frame, key(text)?, None)
            }
            Request::Delete { key: text } => {
                let was_there = self.service.delete(opened.writes()?, &key(text)?);
                self.outbox.add(frame, &Reply::Done { was_there });
                Ok(())
            }
            Request::SetLifetime { key: text, lifetime: given } => {
                let lifetime = lifetime(given)?;
                let condition = Precondition::Always;
                let writes = opened.writes()?;
                let found = self.service.set_lifetime(writes, &key(text)?, lifetime, &condition)?;
                let reply = match found {
                    Some(_) => Reply::Done { was_there: true },
                    None => Reply::Miss,
                };
                self.outbox.add(frame, &reply);
                Ok(())
            }
            Request::InvalidateTag { tag } => {
                let was_there = self.service.invalidate_tag(opened.writes()?, tag);
                self.outbox.add(frame, &Reply::Done { was_there });
                Ok(())
            }
            Request::Add { key: text, amount, lifetime: given } => {
                let lifetime = lifetime(given)?;
                let counted = self.service.add(opened.writes()?, &key(text)?, amount, lifetime);
                let counted = counted.map_err(|error: AddError| {
                    Failure::new(FailureCode::WrongKind, error.to_string())
                })?;
                let reply = Reply::Counted { value: counted.value, created: counted.created };
                self.outbox.add(frame, &reply);
                Ok(())
            }
            Request::Take { key: text, amount, rate } => {
                let period = Duration::from_millis(rate.period);
                let rate = verax_core::store::Rate::new(rate.count, period, rate.burst);
                let rate = rate.map_err(Failure::invalid)?;
                let taken = self.service.take(opened.writes()?, &key(text)?, amount, rate);
                let reply = match taken {
                    Ok(Taken::Allowed { left }) => Reply::Taken { left },
                    Ok(Taken::Later { retry_after }) => {
                        Reply::Later { retry_after: retry_after.as_millis() as u64 }
                    }
                    Err(error @ TakeError::NotAnAllowance) => {
                        return Err(Failure::new(FailureCode::WrongKind, error.to_string()));
                    }
                    Err(error) => return Err(Failure::invalid(error)),
                };
                self.outbox.add(frame, &reply);
                Ok(())
            }
            Request::List { prefix, cursor, most } => {
                let from = if cursor.is_empty() { Ok(Position::default()) } else { cursor.parse() };
                let from = from.map_err(Failure::invalid)?;
                let page = self.service.list(opened.reads()?, prefix, from, most.into())?;
                let entries: Vec<Listed<'_>> = page.items.iter().map(listed).collect();
                let cursor = page.cursor.as_deref().unwrap_or("");
                self.outbox.add(frame, &Reply::Page(Page::of(cursor, &entries)));
                Ok(())
            }
            Request::Batch(operations) => {
                let read: Result<Vec<Operation>, Failure> =
                    operations.iter().map(operation).collect();
                self.batch(frame, read?)
            }
            Request::Lock { name, owner, hold, wait, ends_with_connection } => {
                self.lock(frame, LockAsked { name, owner, hold, wait, ends_with_connection })
            }
            Request::Renew { name, token, hold } => self.renew(frame, name, token, hold),
            Request::Release { name, token } => self.release(frame, name, token),
            Request::Look { name } => self.look_at(frame, name),
            Request::Ask { key, flags, owner, hold, wait } => {
                self.ask(frame, PermitAsked { key, flags, owner, hold, wait })
            }
            Request::PutWithPermit { permit, put } => self.put_with_permit(frame, permit, &put),
            Request::GiveBack { key, permit, fail_all } => {
                self.give_back(frame, key, permit, fail_all)
            }
            Request::Watch => {
                let namespace = Arc::clone(opened.reads()?);
                self.watch(frame.namespace, &namespace);
                self.outbox.add(frame, &Reply::Done { was_there: true });
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
        if let Some(Opened { reads: Ok(namespace), .. }) = opened
            && !flags.refresh
        {
            let (outbox, now) = (&mut self.outbox, hits.begin(&self.service));
            let mut busy = None;
            let cached = self.service.cached(namespace, text, now, |visited, due| {
                let due = due && flags.may_refill;
                match self.service.transit().place(visited.value().len()) {
                    Ok(place) => {
                        add_visited(outbox, frame, (visited, due), flags.details, now, place)
                    }
                    Err(error) => busy = Some(error),
                }
            });
            if let Some(error) = busy {
                return Err(error.into());
            }
            match cached {
                Cached::Hit | Cached::Due | Cached::Stale => {
                    hits.add(namespace, cached != Cached::Stale);
                    return Ok(());
                }
                Cached::Negative(left) => {
                    self.service.count_negative(namespace);
                    return Err(ServiceError::NegativeResult { left }.into());
                }
                Cached::Missing if flags.only_if_cached || !namespace.has_origin() => {
                    self.service.count_miss(namespace);
                    self.outbox.add(frame, &Reply::Miss);
                    return Ok(());
                }
                Cached::Missing => {}
            }
        }
        self.read_through(frame, text, flags)
    }

    /// Reads the origin in a task of its own, since that takes long.
    fn read_through(&mut self, frame: Frame, text: &str, flags: GetFlags) -> Result<(), Failure> {
        let namespace = Arc::clone(self.opened(frame.namespace)?.reads()?);
        let (service, key) = (Arc::clone(&self.service), key(text)?);
        let options = ReadOptions {
            refresh: flags.refresh,
            only_if_cached: flags.only_if_cached,
            trace: None,
        };
        self.waiting.spawn(async move {
            let answer = service.read(&namespace, &key, options).await.and_then(|answer| {
                let size = answer.as_ref().map_or(0, Answer::size);
                Ok((answer, service.transit().place(size)?))
            });
            let mut encoded = Encoded::default();
            match answer {
                Ok((Some(answer), place)) => {
                    encoded.place = place;
                    with_answer(&service, &answer, flags.details, |value| {
                        Reply::Value(value).encode(frame, &mut encoded.frames);
                    });
                }
                Ok((None, _)) => Reply::Miss.encode(frame, &mut encoded.frames),
                Err(error) => fail(frame, &error.into(), &mut encoded.frames),
            }
            encoded
        });
        Ok(())
    }

    /// Stores a value, or deletes it where there is none, in the origin first: in a task of its own,
    /// since that takes long.
    fn write_through(
        &mut self,
        frame: Frame,
        key: Key,
        request: Option<PutRequest>,
    ) -> Result<(), Failure> {
        let namespace = Arc::clone(self.opened(frame.namespace)?.writes()?);
        let service = Arc::clone(&self.service);
        self.waiting.spawn(async move {
            let was_there = match request {
                Some(request) => {
                    service.put_through(&namespace, &key, request, None).await.map(|put| put.1)
                }
                None => service.delete_through(&namespace, &key, Precondition::Always, None).await,
            };
            let mut encoded = Encoded::default();
            match was_there {
                Ok(was_there) => Reply::Done { was_there }.encode(frame, &mut encoded.frames),
                Err(error) => fail(frame, &error.into(), &mut encoded.frames),
            }
            encoded
        });
        Ok(())
    }

    fn batch(&mut self, frame: Frame, operations: Vec<Operation>) -> Result<(), Failure> {
        let access = self.opened(frame.namespace)?.batch_access();
        let service = Arc::clone(&self.service);
        self.waiting.spawn(async move {
            let outcomes = service.batch(&access, operations).await;
            let mut encoded = Encoded::default();
            match service.transit().place(outcomes.iter().map(size).sum()) {
                Ok(place) => encoded.place = place,
                Err(error) => {
                    fail(frame, &error.into(), &mut encoded.frames);
                    return encoded;
                }
            }
            let failures: Vec<Option<Failure>> = outcomes.iter().map(failure_of).collect();
            let replies: Vec<Reply<'_>> = outcomes
                .iter()
                .zip(&failures)
                .map(|(o, f)| reply(&service, o, f.as_ref()))
                .collect();
            Reply::Batch(BatchReplies::of(&replies)).encode(frame, &mut encoded.frames);
            encoded
        });
        Ok(())
    }
}

pub(super) fn fail(frame: Frame, failure: &Failure, out: &mut Vec<u8>) {
    let Failure { code, detail } = failure;
    Reply::Failed { code: *code as u16, detail }.encode(frame, out);
}

/// How many bytes of values an outcome brings.
fn size(outcome: &Outcome) -> usize {
    match outcome {
        Outcome::Got(Ok(Some(answer))) => answer.size(),
        _ => 0,
    }
}

fn add_visited(
    outbox: &mut Outbox,
    frame: Frame,
    (visited, due): (&Visited<'_>, bool),
    details: bool,
    now: Timestamp,
    place: Place,
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
    let value = Value { source, time_left, details: None, value: visited.value() };
    if !details {
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

fn listed(entry: &verax_api::EntrySummary) -> Listed<'_> {
    Listed {
        key: &entry.key,
        value_bytes: entry.value_bytes,
        age: (entry.age_seconds * 1_000.0) as u64,
        time_left: (entry.time_left_seconds * 1_000.0) as i64,
        media_type: &entry.media_type,
    }
}

fn operation(request: Request<'_>) -> Result<Operation, Failure> {
    match request {
        Request::Get { key: text, .. } => Ok(Operation::Get(key(text)?)),
        Request::Put(put) => Ok(Operation::Put(key(put.key)?, put_request(&put)?)),
        Request::Delete { key: text } => Ok(Operation::Delete(key(text)?)),
        _ => Err(Failure::invalid("a batch holds look-ups, puts and deletes")),
    }
}

fn failure_of(outcome: &Outcome) -> Option<Failure> {
    match outcome {
        Outcome::Got(Err(error)) | Outcome::Put(Err(error)) | Outcome::Deleted(Err(error)) => {
            Some(error.clone().into())
        }
        _ => None,
    }
}

fn reply<'a>(service: &Service, outcome: &'a Outcome, failure: Option<&'a Failure>) -> Reply<'a> {
    match (outcome, failure) {
        (_, Some(Failure { code, detail })) => Reply::Failed { code: *code as u16, detail },
        (Outcome::Got(Ok(Some(answer))), _) => {
            let (source, time_left) =
                with_answer(service, answer, false, |v| (v.source, v.time_left));
            Reply::Value(Value { source, time_left, details: None, value: &answer.entry.value })
        }
        (Outcome::Put(Ok((_, was_there))) | Outcome::Deleted(Ok(was_there)), _) => {
            Reply::Done { was_there: *was_there }
        }
        _ => Reply::Miss,
    }
}
