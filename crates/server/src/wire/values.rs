//! Entries in frames: put requests, and replies to reads.

use std::time::Duration;

use bytes::Bytes;
use verax_core::entry::MediaType;
use verax_core::store::EntryView;
use verax_core::{EntityTag, EntryRevision, Freshness, Key, Precondition, Timestamp};
use verax_engine::cache::{PutRequest, ReadResult, checked_tags};
use verax_engine::in_flight::{InFlightReservation, SMALL};
use verax_service::Service;
use verax_wire::{Details, Frame, GetFlags, Lifetime, Put, PutCondition, Source, Tags, Value};

use super::outbox::Outbox;
use crate::failure::Failure;

pub(super) fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

pub(super) fn key(text: &str) -> Result<Key, Failure> {
    Key::new(text).map_err(Failure::invalid)
}

pub(super) fn put_request(put: &Put<'_>) -> Result<PutRequest, Failure> {
    Ok(PutRequest {
        value: Bytes::copy_from_slice(put.value),
        media_type: MediaType::parse(put.media_type).map_err(Failure::invalid)?,
        cache_control: Lifetime::parts(put.lifetime).map_err(Failure::invalid)?,
        tags: checked_tags(put.tags.iter()).map_err(Failure::invalid)?,
        condition: match put.condition {
            PutCondition::Always => Precondition::Always,
            PutCondition::IfAbsent => Precondition::IfAbsent,
            PutCondition::IfMatches(tag) => {
                Precondition::IfMatches(vec![EntityTag::from_number(tag)])
            }
            PutCondition::IfRevision(revision) => {
                Precondition::IfRevision(EntryRevision::from_number(revision))
            }
        },
    })
}

/// Milliseconds until an entry is stale; 0 or less if it already is.
pub(super) fn time_left(freshness: Freshness) -> i64 {
    match freshness {
        Freshness::Fresh(left) => left.as_millis() as i64,
        Freshness::Stale(since) | Freshness::OnlyOnError(since) => -(since.as_millis() as i64),
        Freshness::Ended => 0,
    }
}

/// The fields of a reply beside the value.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct ValueFields {
    pub(super) details: bool,
    pub(super) revision: bool,
}

impl From<GetFlags> for ValueFields {
    fn from(flags: GetFlags) -> Self {
        Self { details: flags.details, revision: flags.revision }
    }
}

/// The reply to a read off the fast path.
pub(super) fn with_answer<T>(
    service: &Service,
    answer: &ReadResult,
    fields: ValueFields,
    give: impl FnOnce(Value<'_>) -> T,
) -> T {
    let tags: Vec<&str> = answer.entry.tags.iter().map(|tag| &**tag).collect();
    give(value_of(service, answer, fields, &tags))
}

/// A read result as a reply; `tags` are those of its entry.
pub(super) fn value_of<'a>(
    service: &Service,
    answer: &'a ReadResult,
    fields: ValueFields,
    tags: &'a [&'a str],
) -> Value<'a> {
    let entry = &answer.entry;
    let details = fields.details.then(|| Details {
        age: answer.age.as_millis() as u64,
        entity_tag: entry.entity_tag().number(),
        media_type: entry.media_type.as_str(),
        tags: Tags::of(tags),
    });
    let time_left = time_left(entry.freshness(service.engine().now()));
    let revision = entry.revision.filter(|_| fields.revision).map(EntryRevision::number);
    Value {
        source: answer.source.kind(),
        due: false,
        time_left,
        details,
        revision,
        value: &entry.value,
    }
}

/// Adds the reply to a read that found an entry.
pub(super) fn add_view(
    outbox: &mut Outbox,
    frame: Frame,
    (visited, due): (&EntryView<'_>, bool),
    fields: ValueFields,
    now: Timestamp,
    reservation: InFlightReservation,
) {
    if visited.value().len() > SMALL {
        outbox.hold(reservation);
    }
    let source = match visited.freshness() {
        Freshness::Fresh(_) => Source::Hit,
        _ => Source::Stale,
    };
    let due = due && source == Source::Hit;
    let time_left = time_left(visited.freshness());
    let revision = fields.revision.then(|| visited.revision().number());
    let value = Value { source, due, time_left, details: None, revision, value: visited.value() };
    if !fields.details {
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
