//! Values in replies.

use verax_core::source::Source;

use crate::bytes::{Reader, put_short_text};
use crate::error::WireError;
use crate::field::{Field, FlagName, Flags};
use crate::frame::{self, Frame};
use crate::put::EntryTag;
use crate::tags::Tags;

/// A value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Value<'a> {
    /// Its source.
    pub source: Source,
    /// Whether it is due for early refresh by the caller; only for a fresh hit.
    pub due: bool,
    /// Milliseconds until it is stale; 0 or less when it is.
    pub time_left: i64,
    /// Its details, if requested.
    pub details: Option<Details<'a>>,
    /// The revision of its entry, if requested and the value is stored.
    pub revision: Option<u64>,
    /// The value.
    pub value: &'a [u8],
}

/// The details of an entry, on request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Details<'a> {
    /// How long ago the value was stored, in milliseconds.
    pub age: u64,
    /// Its entity tag.
    pub entity_tag: EntryTag,
    /// Its media type.
    pub media_type: &'a str,
    /// Its tags.
    pub tags: Tags<'a>,
}

/// The kind of a reply that is a value.
pub(crate) const KIND: u8 = 0x90;

const DETAILS: u8 = 1;
const REVISION: u8 = 2;

/// A fresh hit that is due for early refresh.
const DUE: u8 = 5;

/// The numbers of sources are part of the protocol.
const SOURCES: [(u8, Source); 5] = [
    (0, Source::Hit),
    (1, Source::Stale),
    (2, Source::StaleOnError),
    (3, Source::Origin),
    (4, Source::Joined),
];

/// The encoding of a source.
fn number_of(source: Source) -> u8 {
    match source {
        Source::Hit => 0,
        Source::Stale => 1,
        Source::StaleOnError => 2,
        Source::Origin => 3,
        Source::Joined => 4,
    }
}

impl<'a> Field<'a> for Value<'a> {
    type Value = Self;
    const SHAPE: &'static str = "source (1), milliseconds until it is stale (8, signed), with flag 1: age in milliseconds (8), entity tag (16), media type (short text), tags; with flag 2: revision (8); value (rest)";
    const FLAGS: &'static [FlagName] = &[(DETAILS, "details"), (REVISION, "revision")];

    fn read(head: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        let (source, due) = match body.u8("source")? {
            DUE => (Source::Hit, true),
            number => {
                let known = SOURCES.iter().find(|(known, _)| *known == number);
                (known.ok_or(WireError::Range("source"))?.1, false)
            }
        };
        let time_left = body.i64("time left")?;
        let details = match head.has(DETAILS) {
            false => None,
            true => Some(Details {
                age: body.u64("age")?,
                entity_tag: body.u128("entity tag")?,
                media_type: body.short_text("media type")?,
                tags: Tags::read(head, body, "tags")?,
            }),
        };
        let revision = head.has(REVISION).then(|| body.u64("revision")).transpose()?;
        Ok(Self { source, due, time_left, details, revision, value: body.rest() })
    }

    fn write(value: &Self, out: &mut Vec<u8>) {
        value.write_before_bytes(out);
        out.extend_from_slice(value.value);
    }

    fn flags(value: &Self) -> u8 {
        (u8::from(value.details.is_some()) * DETAILS)
            | (u8::from(value.revision.is_some()) * REVISION)
    }
}

impl Value<'_> {
    fn write_before_bytes(&self, out: &mut Vec<u8>) {
        out.push(if self.due { DUE } else { number_of(self.source) });
        out.extend_from_slice(&self.time_left.to_le_bytes());
        if let Some(details) = &self.details {
            out.extend_from_slice(&details.age.to_le_bytes());
            out.extend_from_slice(&details.entity_tag.to_le_bytes());
            put_short_text(out, details.media_type);
            Tags::write(&details.tags, out);
        }
        if let Some(revision) = self.revision {
            out.extend_from_slice(&revision.to_le_bytes());
        }
    }

    /// Appends the frame of a reply without the value's bytes, which must follow separately: a
    /// large value is not copied.
    pub fn encode_before_bytes(&self, frame: Frame, out: &mut Vec<u8>) {
        let start = frame::begin(out, frame, KIND, Self::flags(self));
        self.write_before_bytes(out);
        frame::finish(out, start, self.value.len());
    }
}
