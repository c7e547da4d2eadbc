//! Parts that several frames have.

use crate::bytes::{Reader, put_long_text, put_short_text};
use crate::error::WireError;
use crate::{MAX_KEY_BYTES, MAX_TAG_BYTES, MAX_TAGS};

/// The validator of media type and value, as a number.
pub type EntryTag = u128;

/// A lifetime, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Lifetime {
    /// How long the entry is fresh.
    pub max_age: u64,
    /// How long after that the previous copy may be served while one caller refreshes it.
    pub stale_while_revalidate: u64,
    /// How long after `max_age` the previous copy may be served when the origin fails.
    pub stale_if_error: u64,
}

impl Lifetime {
    /// A part that is not given, and comes from the namespace or, where a max-age is given, is
    /// zero.
    pub const NOT_GIVEN: u64 = u64::MAX;

    pub(crate) fn read(reader: &mut Reader<'_>) -> Result<Self, WireError> {
        Ok(Self {
            max_age: reader.u64("max-age")?,
            stale_while_revalidate: reader.u64("stale-while-revalidate")?,
            stale_if_error: reader.u64("stale-if-error")?,
        })
    }

    pub(crate) fn write(self, out: &mut Vec<u8>) {
        for part in [self.max_age, self.stale_while_revalidate, self.stale_if_error] {
            out.extend_from_slice(&part.to_le_bytes());
        }
    }
}

/// A rate: `count` in each `period`, of which `burst` at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rate {
    /// How much comes back in each period.
    pub count: u64,
    /// The period, in milliseconds.
    pub period: u64,
    /// How much may be acquired at once.
    pub burst: u64,
}

/// Checks a key's length.
pub(crate) fn key(text: &str) -> Result<&str, WireError> {
    match text.len() {
        1..=MAX_KEY_BYTES => Ok(text),
        _ => Err(WireError::Range("key")),
    }
}

/// Tags as they stand in a frame: behind their number, each behind its length.
#[derive(Clone, Copy)]
pub enum Tags<'a> {
    /// Decoded and checked, in the frame's bytes.
    #[doc(hidden)]
    Encoded { count: u8, bytes: &'a [u8] },
    /// To be encoded.
    #[doc(hidden)]
    Listed(&'a [&'a str]),
}

impl<'a> Tags<'a> {
    /// No tags.
    pub const NONE: Self = Tags::Listed(&[]);

    /// Tags to be sent.
    pub fn of(tags: &'a [&'a str]) -> Self {
        Tags::Listed(tags)
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        match self {
            Tags::Encoded { count, .. } => usize::from(*count),
            Tags::Listed(tags) => tags.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The tags in turn.
    pub fn iter(&self) -> impl Iterator<Item = &'a str> + use<'a> {
        let (encoded, listed) = match *self {
            Tags::Encoded { bytes, .. } => (bytes, [].as_slice()),
            Tags::Listed(tags) => (&[][..], tags),
        };
        let mut reader = Reader(encoded);
        // They were checked when the frame was decoded.
        std::iter::from_fn(move || reader.short_text("tag").ok()).chain(listed.iter().copied())
    }

    pub(crate) fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let count = reader.u8("number of tags")?;
        if usize::from(count) > MAX_TAGS {
            return Err(WireError::Range("number of tags"));
        }
        let before = reader.0;
        for _ in 0..count {
            let tag = reader.short_text("tag")?;
            if tag.is_empty() || tag.len() > MAX_TAG_BYTES {
                return Err(WireError::Range("tag"));
            }
        }
        Ok(Tags::Encoded { count, bytes: &before[..before.len() - reader.0.len()] })
    }

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        out.push(self.len() as u8);
        self.iter().for_each(|tag| put_short_text(out, tag));
    }
}

impl PartialEq for Tags<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.iter().eq(other.iter())
    }
}

impl Eq for Tags<'_> {}

impl std::fmt::Debug for Tags<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

/// What must hold for a value to be stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PutCondition {
    /// Store it whatever is there.
    #[default]
    Always,
    /// Store it only if nothing is there.
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
    /// What must hold.
    pub condition: PutCondition,
    /// Whether the reply is to tell the revision that the entry is stored with.
    pub tell_revision: bool,
}

const IF_ABSENT: u8 = 0b0001;
const IF_MATCHES: u8 = 0b0010;
const LIFETIME: u8 = 0b0100;
const TAGS: u8 = 0b1000;
const IF_REVISION: u8 = 0b1_0000;
const TELL_REVISION: u8 = 0b10_0000;
const CONDITIONS: u8 = IF_ABSENT | IF_MATCHES | IF_REVISION;

impl<'a> Put<'a> {
    pub(crate) fn flags(&self) -> u8 {
        let condition = match self.condition {
            PutCondition::Always => 0,
            PutCondition::IfAbsent => IF_ABSENT,
            PutCondition::IfMatches(_) => IF_MATCHES,
            PutCondition::IfRevision(_) => IF_REVISION,
        };
        let lifetime = if self.lifetime.is_some() { LIFETIME } else { 0 };
        let tags = if self.tags.is_empty() { 0 } else { TAGS };
        let tell = if self.tell_revision { TELL_REVISION } else { 0 };
        condition | lifetime | tags | tell
    }

    pub(crate) fn read(kind: u8, flags: u8, reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let condition = match flags & CONDITIONS {
            0 => PutCondition::Always,
            IF_ABSENT => PutCondition::IfAbsent,
            IF_MATCHES => PutCondition::IfMatches(reader.u128("entity tag")?),
            IF_REVISION => PutCondition::IfRevision(reader.u64("revision")?),
            _ => return Err(WireError::Flags { kind, flags }),
        };
        if flags & !(CONDITIONS | LIFETIME | TAGS | TELL_REVISION) != 0 {
            return Err(WireError::Flags { kind, flags });
        }
        let lifetime = (flags & LIFETIME != 0).then(|| Lifetime::read(reader)).transpose()?;
        let tags = (flags & TAGS != 0).then(|| Tags::read(reader)).transpose()?;
        // There is one way only to write a frame: without tags, without the flag.
        if tags.is_some_and(|tags| tags.is_empty()) {
            return Err(WireError::Range("number of tags"));
        }
        let media_type = reader.short_text("media type")?;
        let key = key(reader.long_text("key")?)?;
        let tags = tags.unwrap_or(Tags::NONE);
        let (value, tell_revision) = (reader.rest(), flags & TELL_REVISION != 0);
        Ok(Self { key, value, media_type, lifetime, tags, condition, tell_revision })
    }

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        match self.condition {
            PutCondition::Always | PutCondition::IfAbsent => {}
            PutCondition::IfMatches(tag) => out.extend_from_slice(&tag.to_le_bytes()),
            PutCondition::IfRevision(revision) => out.extend_from_slice(&revision.to_le_bytes()),
        }
        if let Some(lifetime) = self.lifetime {
            lifetime.write(out);
        }
        if !self.tags.is_empty() {
            self.tags.write(out);
        }
        put_short_text(out, self.media_type);
        put_long_text(out, self.key);
        out.extend_from_slice(self.value);
    }
}
