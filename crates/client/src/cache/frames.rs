//! Conversions between the library's types and frames.

use std::time::Duration;

use verax_core::entry::{MAX_TAG_BYTES, MAX_TAGS, MediaType};
use verax_core::lifetime::CacheControl;
use verax_wire::{Lifetime, Put, Reply, Tags, Value};

use super::compress::Packed;
use super::options::{Details, Hit};
use crate::error::ClientError;
use crate::options::{LifetimeOptions, PutCondition, PutOptions};
use crate::wire::link::RawReply;

pub(super) fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// A lifetime in its wire form; absent parts come from the namespace's policy.
pub(super) fn lifetime(options: LifetimeOptions) -> Option<Lifetime> {
    let LifetimeOptions { max_age, stale_while_revalidate, stale_if_error } = options;
    let given =
        CacheControl { max_age, stale_while_revalidate, stale_if_error, ..Default::default() };
    Lifetime::of(&given)
}

/// An entity tag with its quotes, as a number.
pub(super) fn entity_tag(text: &str) -> Result<u128, ClientError> {
    u128::from_str_radix(text.trim().trim_matches('"'), 16)
        .map_err(|_| ClientError::Invalid(format!("{text:?} is not an entity tag")))
}

pub(super) fn put_frame<'a>(
    key: &'a str,
    packed: &'a Packed<'a>,
    options: &'a PutOptions,
    tags: &'a [&'a str],
) -> Result<Put<'a>, ClientError> {
    // Refuses what does not fit into a frame, where it would be cut off or end the connection.
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

/// A tag that fits into a frame.
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
    verax_core::Key::check(key).map_err(|e| ClientError::Invalid(e.to_string()))?;
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
        details: value.details.map(|details| Details {
            age: Duration::from_millis(details.age),
            entity_tag: format!("\"{:032x}\"", details.entity_tag),
            media_type: details.media_type.to_owned(),
            tags: details.tags.iter().map(str::to_owned).collect(),
        }),
        near: false,
        due: value.due,
        revision: value.revision,
    }
}

/// A reply that does not match the request.
pub(super) fn unexpected() -> ClientError {
    ClientError::NotVerax { url: "the wire".into(), reason: "it sent an unexpected reply".into() }
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
