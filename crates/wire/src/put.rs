//! Values to store.

use crate::bytes::{Reader, put_long_text, put_short_text};
use crate::error::WireError;
use crate::field::{Field, FlagName, Flags, IfFlag, checked};
use crate::lifetime::Lifetime;
use crate::limits::MAX_KEY_BYTES;
use crate::tags::Tags;

/// The entity tag of media type and value, as a number.
pub type EntryTag = u128;

/// The condition for storing a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PutCondition {
    /// Store it unconditionally.
    #[default]
    Always,
    /// Store it only if the key has no entry.
    IfAbsent,
    /// Store it only over the value with this entity tag.
    IfMatches(EntryTag),
    /// Store it only over the entry with this revision.
    IfRevision(u64),
}

/// A value to store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Put<'a> {
    /// Its key.
    pub key: &'a str,
    /// The value.
    pub value: &'a [u8],
    /// Its media type.
    pub media_type: &'a str,
    /// Its lifetime; `None` for the namespace's.
    pub lifetime: Option<Lifetime>,
    /// Its tags.
    pub tags: Tags<'a>,
    /// The condition.
    pub condition: PutCondition,
    /// Whether the reply has the revision of the new entry.
    pub tell_revision: bool,
}

const IF_ABSENT: u8 = 1;
const IF_MATCHES: u8 = 2;
const LIFETIME: u8 = 4;
const TAGS: u8 = 8;
const IF_REVISION: u8 = 16;
const TELL_REVISION: u8 = 32;
const CONDITIONS: u8 = IF_ABSENT | IF_MATCHES | IF_REVISION;

impl<'a> Field<'a> for Put<'a> {
    type Value = Self;
    const SHAPE: &'static str = "entity tag (16, flag 2), revision (8, flag 16), lifetime (24, flag 4), tags (flag 8), media type (short text), key (long text), value (rest)";
    const FLAGS: &'static [FlagName] = &[
        (IF_ABSENT, "if absent"),
        (IF_MATCHES, "if matches"),
        (LIFETIME, "lifetime"),
        (TAGS, "tags"),
        (IF_REVISION, "if revision"),
        (TELL_REVISION, "tell revision"),
    ];

    fn read(head: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        let condition = match head.bits & CONDITIONS {
            0 => PutCondition::Always,
            IF_ABSENT => PutCondition::IfAbsent,
            IF_MATCHES => PutCondition::IfMatches(body.u128("entity tag")?),
            IF_REVISION => PutCondition::IfRevision(body.u64("revision")?),
            _ => return Err(head.error()),
        };
        let lifetime = IfFlag::<LIFETIME, Lifetime>::read(head, body, "lifetime")?;
        let tags = IfFlag::<TAGS, Tags<'a>>::read(head, body, "tags")?;
        // A frame has only one encoding: without tags, the flag is clear.
        if tags.is_some_and(|tags| tags.is_empty()) {
            return Err(WireError::Range("number of tags"));
        }
        Ok(Self {
            condition,
            lifetime,
            tags: tags.unwrap_or(Tags::NONE),
            media_type: body.short_text("media type")?,
            key: checked(body.long_text("key")?, MAX_KEY_BYTES, "key")?,
            value: body.rest(),
            tell_revision: head.has(TELL_REVISION),
        })
    }

    fn write(put: &Self, out: &mut Vec<u8>) {
        match put.condition {
            PutCondition::Always | PutCondition::IfAbsent => {}
            PutCondition::IfMatches(tag) => out.extend_from_slice(&tag.to_le_bytes()),
            PutCondition::IfRevision(revision) => out.extend_from_slice(&revision.to_le_bytes()),
        }
        if let Some(lifetime) = put.lifetime {
            lifetime.write(out);
        }
        if !put.tags.is_empty() {
            Tags::write(&put.tags, out);
        }
        put_short_text(out, put.media_type);
        put_long_text(out, put.key);
        out.extend_from_slice(put.value);
    }

    fn flags(put: &Self) -> u8 {
        let condition = match put.condition {
            PutCondition::Always => 0,
            PutCondition::IfAbsent => IF_ABSENT,
            PutCondition::IfMatches(_) => IF_MATCHES,
            PutCondition::IfRevision(_) => IF_REVISION,
        };
        condition
            | (u8::from(put.lifetime.is_some()) * LIFETIME)
            | (u8::from(!put.tags.is_empty()) * TAGS)
            | (u8::from(put.tell_revision) * TELL_REVISION)
    }
}

/// A put whose permit is its condition.
pub(crate) struct Unconditional;

impl<'a> Field<'a> for Unconditional {
    type Value = Put<'a>;
    const SHAPE: &'static str = "those of put";
    const FLAGS: &'static [FlagName] =
        &[(LIFETIME, "lifetime"), (TAGS, "tags"), (TELL_REVISION, "tell revision")];

    fn read(
        head: &mut Flags,
        body: &mut Reader<'a>,
        name: &'static str,
    ) -> Result<Put<'a>, WireError> {
        Put::read(head, body, name)
    }

    fn write(put: &Put<'a>, out: &mut Vec<u8>) {
        Put::write(put, out);
    }

    fn flags(put: &Put<'a>) -> u8 {
        Put::flags(put)
    }
}
