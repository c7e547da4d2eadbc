//! Entries: get, put, delete, and list.

use std::sync::Arc;
use std::time::Duration;

use verax_core::entry::MediaType;
use verax_core::store::{EntryFilter, Position};
use verax_core::{EntryRevision, Precondition, Timestamp};
use verax_engine::cache::{Cached, ReadOptions, ReadResult, Stored};
use verax_engine::{EngineError, TraceContext};
use verax_wire::{Frame, GetFlags, ListedEntries, ListedEntry, Put, Reply};

use super::hits::Hits;
use super::outbox::Encoded;
use super::session::{Opened, Session, fail};
use super::values::{add_view, key, put_request, time_left, with_answer};
use crate::failure::Failure;

impl Session {
    pub(super) fn get(
        &mut self,
        frame: Frame,
        text: &str,
        flags: GetFlags,
        hits: &mut Hits,
    ) -> Result<(), Failure> {
        let opened = usize::from(frame.namespace).checked_sub(1).and_then(|at| self.opened.get(at));
        // Only the usual case is on the fast path; errors are determined below.
        if let Some(Opened { reads: Ok(reader), .. }) = opened
            && !flags.refresh
            && !flags.stale_if_error
            && (flags.only_if_cached || !reader.is_bypassed(hits.begin(&self.service)))
        {
            let (outbox, now) = (&mut self.outbox, hits.begin(&self.service));
            let (mut busy, mut bytes) = (None, 0);
            let cached = reader.cached(text, now, |visited, due| {
                let due = due && flags.may_refill;
                bytes = visited.value().len();
                match reader.in_flight().reserve(bytes) {
                    Ok(reservation) => {
                        add_view(outbox, frame, (visited, due), flags.into(), now, reservation)
                    }
                    Err(error) => busy = Some(error),
                }
            });
            if let Some(error) = busy {
                return Err(error.into());
            }
            match cached {
                Cached::Hit | Cached::Due | Cached::Stale => {
                    hits.add(reader, cached != Cached::Stale, bytes);
                    return Ok(());
                }
                Cached::Negative(left) => {
                    reader.count_negative();
                    return Err(EngineError::NegativeResult { left }.into());
                }
                Cached::Missing if flags.only_if_cached || !reader.has_origin() => {
                    reader.count_miss(text, now);
                    self.outbox.add(frame, &Reply::Miss);
                    return Ok(());
                }
                // Decompressed in a task of its own.
                Cached::Packed | Cached::Missing => {}
            }
        }
        self.read_through(frame, text, flags)
    }

    /// Reads the origin in a task of its own, since that is slow.
    fn read_through(&mut self, frame: Frame, text: &str, flags: GetFlags) -> Result<(), Failure> {
        let reader = self.opened(frame.namespace)?.reads()?.clone();
        let (service, key) = (Arc::clone(&self.service), key(text)?);
        let options = read_options(flags, self.trace.take());
        let replies = self.replies.clone();
        self.carry_out(frame, async move {
            let answer = reader.read(&key, options).await.and_then(|answer| {
                let size = answer.as_ref().map_or(0, ReadResult::size);
                let mut reservation = replies.reserve_all(size)?;
                reservation.join(reader.in_flight().reserve_all(size)?);
                Ok((answer, reservation))
            });
            let mut encoded = Encoded::default();
            match answer {
                Ok((Some(answer), reservation)) => {
                    encoded.reservation = reservation;
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

    pub(super) fn put(&mut self, frame: Frame, put: &Put<'_>) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?;
        let written = writer.put(&key(put.key)?, put_request(put)?, self.trace.clone());
        self.written(frame, written, done_of(put))
    }

    pub(super) fn delete(&mut self, frame: Frame, text: &str) -> Result<(), Failure> {
        let deleter = self.opened(frame.namespace)?.deletes()?;
        let written = deleter.delete(&key(text)?, Precondition::Always, self.trace.clone());
        self.written(frame, written, Reply::done)
    }

    /// Removes entries in a task of its own, since that writes an activity.
    pub(super) fn clear(&mut self, frame: Frame, prefix: Option<&str>) -> Result<(), Failure> {
        let opened = self.opened(frame.namespace)?;
        let (tenant, name) = (opened.tenant.clone(), opened.name.clone());
        let caller = self.peer.as_ref().map(|peer| Arc::clone(&peer.caller));
        let caller = caller.ok_or_else(|| Failure::invalid("a clear needs a hello"))?;
        let (service, prefix) = (Arc::clone(&self.service), prefix.map(str::to_owned));
        self.carry_out(frame, async move {
            let control = service.control();
            let cleared = match &prefix {
                Some(prefix) => control.clear_prefix(&caller, (&tenant, &name), prefix).await,
                None => control.clear(&caller, &tenant, &name).await,
            };
            let mut encoded = Encoded::default();
            match cleared {
                Ok(entries) => Reply::Cleared { entries }.encode(frame, &mut encoded.frames),
                Err(error) => fail(frame, &error.into(), &mut encoded.frames),
            }
            encoded
        })
    }

    pub(super) fn list(
        &mut self,
        frame: Frame,
        prefix: &str,
        cursor: &str,
        limit: u16,
    ) -> Result<(), Failure> {
        let from = if cursor.is_empty() { Ok(Position::default()) } else { cursor.parse() };
        let from = from.map_err(Failure::invalid)?;
        let now = self.service.engine().now();
        let reader = self.opened(frame.namespace)?.reads()?;
        let listing = reader.list(&EntryFilter::prefix(prefix), from, limit.into(), now)?;
        let kinds: Vec<MediaType> =
            listing.entries.iter().map(|listed| listed.found.media_type()).collect();
        let entries = listing.entries.iter().zip(&kinds);
        let entries: Vec<ListedEntry<'_>> =
            entries.map(|(listed, kind)| described(listed, kind, now)).collect();
        let cursor = listing.next.map(|next| next.to_string()).unwrap_or_default();
        let entries = ListedEntries::of(&entries);
        self.outbox.add(frame, &Reply::Page { cursor: &cursor, entries });
        Ok(())
    }
}

/// The read options of a get.
pub(super) fn read_options(flags: GetFlags, trace: Option<TraceContext>) -> ReadOptions {
    let GetFlags { refresh, only_if_cached, .. } = flags;
    let stale_if_error = flags.stale_if_error.then_some(Duration::MAX);
    ReadOptions { refresh, only_if_cached, stale_if_error, trace }
}

fn described<'a>(
    listed: &'a verax_core::store::ListedEntry,
    media_type: &'a MediaType,
    now: Timestamp,
) -> ListedEntry<'a> {
    let found = &listed.found;
    ListedEntry {
        key: found.key(),
        value_bytes: found.value_length() as u64,
        age: now.since(found.stored_at()).as_millis() as u64,
        time_left: time_left(found.freshness()),
        media_type: media_type.as_str(),
    }
}

/// The reply to a successful put.
fn done_of(put: &Put<'_>) -> fn(Stored) -> Reply<'static> {
    match put.tell_revision {
        true => |stored| revised(&stored),
        false => |stored| Reply::done(stored.replaced),
    }
}

pub(super) fn revised(stored: &Stored) -> Reply<'static> {
    let revision = stored.entry.revision.map(EntryRevision::number);
    Reply::Done { was_there: stored.replaced, revision }
}
