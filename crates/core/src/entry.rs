//! An entry: a value and its metadata.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use serde::{Deserialize, Serialize};

use crate::lifetime::{Freshness, Lifetime};
use crate::store::packing::pack;
use crate::time::Timestamp;

/// The most tags that one entry may carry.
pub const MAX_TAGS: usize = 32;

/// The maximum length of a tag, in bytes.
pub const MAX_TAG_BYTES: usize = 128;

/// A label on entries, for invalidating a group (a cache group in RFC 9875).
pub type Tag = Arc<str>;

/// A validator that changes whenever media type or value bytes change (RFC 9110, section 8.8.3).
///
/// It is a 128-bit hash of both, so storing the same bytes again keeps it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct EntityTag(u128);

impl EntityTag {
    /// The entity tag of a value.
    pub fn of(media_type: &str, value: &[u8]) -> Self {
        let seed = xxhash_rust::xxh3::xxh3_64(media_type.as_bytes());
        Self(xxhash_rust::xxh3::xxh3_128_with_seed(value, seed))
    }

    /// The entity tag of a number that [`number`](Self::number) gave.
    pub fn from_number(number: u128) -> Self {
        Self(number)
    }

    /// The entity tag as a number.
    pub fn number(self) -> u128 {
        self.0
    }

    /// Reads the quoted form that [`fmt::Display`] writes; `None` for anything else.
    pub fn parse(text: &str) -> Option<Self> {
        let inner = text.trim().strip_prefix('"')?.strip_suffix('"')?;
        let hex = inner.len() == 32 && inner.bytes().all(|b| b.is_ascii_hexdigit());
        hex.then(|| u128::from_str_radix(inner, 16).ok().map(Self))?
    }
}

impl fmt::Display for EntityTag {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "\"{:032x}\"", self.0)
    }
}

/// The media type of a value. Common ones take no memory of their own.
#[derive(Clone)]
pub struct MediaType(Repr);

#[derive(Clone)]
enum Repr {
    /// An index into [`USUAL`].
    Usual(u8),
    Other(Arc<str>),
}

/// The media types of most values; an entry stores one of them in one byte.
const USUAL: [&str; 25] = [
    "application/octet-stream",
    "application/json",
    "application/json; charset=utf-8",
    "application/json;charset=utf-8",
    "application/problem+json",
    "application/geo+json",
    "application/xml",
    "application/cbor",
    "application/pdf",
    "application/javascript",
    "application/x-www-form-urlencoded",
    "text/plain",
    "text/plain; charset=utf-8",
    "text/plain;charset=utf-8",
    "text/html",
    "text/html; charset=utf-8",
    "text/html;charset=utf-8",
    "text/css",
    "text/csv",
    "image/png",
    "image/jpeg",
    "image/svg+xml",
    "image/webp",
    RATE_LIMIT_TYPE,
    NEGATIVE_TYPE,
];

/// Where [`NEGATIVE_TYPE`] stands in [`USUAL`].
pub(crate) const NEGATIVE_NUMBER: u8 = USUAL.len() as u8 - 1;

/// The media type of the state of a rate limit.
pub const RATE_LIMIT_TYPE: &str = "application/vnd.verax.rate-limit";

/// The media type of a negative entry: the origin has no value for the key.
pub const NEGATIVE_TYPE: &str = "application/vnd.verax.no-value";

/// The maximum length of a media type, in bytes.
pub const MAX_MEDIA_TYPE_BYTES: usize = 255;

/// Why a text is not a media type that an entry can have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum InvalidMediaType {
    /// It is too long.
    #[error("the media type has {0} bytes: use at most {MAX_MEDIA_TYPE_BYTES}")]
    Length(usize),
    /// It is not TYPE/SUBTYPE, or has characters that a header field cannot hold.
    #[error("the media type is not TYPE/SUBTYPE in printable ASCII, as in application/json")]
    Shape,
}

impl MediaType {
    /// Parses a media type from a client: TYPE/SUBTYPE (RFC 9110, section 8.3.1), within the length
    /// limit.
    ///
    /// # Errors
    /// [`InvalidMediaType`].
    pub fn parse(text: &str) -> Result<Self, InvalidMediaType> {
        if text.len() > MAX_MEDIA_TYPE_BYTES {
            return Err(InvalidMediaType::Length(text.len()));
        }
        let essence = text.split(';').next().unwrap_or_default().trim();
        let is_token = |part: &str| {
            let other = |b: u8| b"!#$%&'*+-.^_`|~".contains(&b);
            !part.is_empty() && part.bytes().all(|b| b.is_ascii_alphanumeric() || other(b))
        };
        let shaped = essence.split_once('/').is_some_and(|(a, b)| is_token(a) && is_token(b));
        let printable = text.bytes().all(|b| matches!(b, b' '..=b'~' | b'\t'));
        if shaped && printable { Ok(Self::new(text)) } else { Err(InvalidMediaType::Shape) }
    }

    /// A media type without checks, for values whose type is already known to be valid.
    pub fn new(text: &str) -> Self {
        match USUAL.iter().position(|usual| *usual == text) {
            Some(index) => Self(Repr::Usual(index as u8)),
            None => Self(Repr::Other(text.into())),
        }
    }

    /// The media type as text.
    pub fn as_str(&self) -> &str {
        match &self.0 {
            Repr::Usual(index) => USUAL[usize::from(*index)],
            Repr::Other(text) => text,
        }
    }

    /// The number of a common one; `None` for others.
    pub(crate) fn number(&self) -> Option<u8> {
        match self.0 {
            Repr::Usual(index) => Some(index),
            Repr::Other(_) => None,
        }
    }

    /// The common one with a number from [`MediaType::number`].
    pub(crate) fn usual(number: u8) -> Self {
        Self(Repr::Usual(number.min(USUAL.len() as u8 - 1)))
    }
}

impl From<&str> for MediaType {
    fn from(text: &str) -> Self {
        Self::new(text)
    }
}

impl From<String> for MediaType {
    fn from(text: String) -> Self {
        Self::new(&text)
    }
}

impl PartialEq for MediaType {
    fn eq(&self, other: &Self) -> bool {
        self.as_str() == other.as_str()
    }
}

impl Eq for MediaType {}

impl fmt::Debug for MediaType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.as_str().fmt(f)
    }
}

impl fmt::Display for MediaType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// The tags of an entry. An empty list takes no memory; cloning shares it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Tags(Option<Arc<[Tag]>>);

impl<T: Into<Arc<[Tag]>>> From<T> for Tags {
    fn from(tags: T) -> Self {
        Self(Some(tags.into()).filter(|tags| !tags.is_empty()))
    }
}

impl std::ops::Deref for Tags {
    type Target = [Tag];

    fn deref(&self) -> &[Tag] {
        self.0.as_deref().unwrap_or_default()
    }
}

/// Identifies one storing of an entry: two consecutive entries of a key have different revisions
/// even if they are equal in every byte.
///
/// It is the moment of storing in milliseconds (42 bits, until the year 2109), and a count within
/// the millisecond (11 bits); when the count overflows, the revision runs ahead of the clock. So
/// the revisions of a key only grow, across restarts too unless the clock is set back. They fit
/// into the integers of every JSON reader.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
pub struct EntryRevision(u64);

impl EntryRevision {
    const COUNT_BITS: u32 = 11;
    const LAST_MILLISECOND: u64 = (1 << 42) - 1;

    /// The first revision of a millisecond.
    pub fn at(moment: Timestamp) -> Self {
        Self(moment.as_millis().min(Self::LAST_MILLISECOND) << Self::COUNT_BITS)
    }

    /// The revision of a number from [`number`](Self::number).
    pub const fn from_number(number: u64) -> Self {
        Self(number)
    }

    /// Its number.
    pub const fn number(self) -> u64 {
        self.0
    }

    /// The one that follows it.
    #[must_use]
    pub const fn next(self) -> Self {
        Self(self.0.saturating_add(1))
    }

    /// The millisecond of its storing.
    pub const fn stored_at(self) -> Timestamp {
        Timestamp::from_millis(self.0 >> Self::COUNT_BITS)
    }
}

impl fmt::Display for EntryRevision {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// A value and its metadata. Cloning shares the bytes.
#[derive(Debug, Clone)]
pub struct Entry {
    /// The value's bytes.
    pub value: Bytes,
    /// The value's media type, as given when it was stored.
    pub media_type: MediaType,
    /// Labels for invalidating groups; at most [`MAX_TAGS`].
    pub tags: Tags,
    /// How long the entry may be served.
    pub lifetime: Lifetime,
    /// When it was stored.
    pub stored_at: Timestamp,
    /// How long its refill took; zero for an entry that no refill brought.
    pub refill_took: Duration,
    /// The revision that it is stored with; `None` for one that is not stored.
    pub revision: Option<EntryRevision>,
    /// The entity tag, if it is already known.
    pub(crate) known_tag: Option<EntityTag>,
    /// The value as it is to be stored, if it is compressed. Boxed, since few entries have it.
    pub(crate) packed: Option<Box<Bytes>>,
}

impl Entry {
    /// An entry without tags.
    pub fn new(
        value: impl Into<Bytes>,
        media_type: impl Into<MediaType>,
        lifetime: Lifetime,
        now: Timestamp,
    ) -> Self {
        Self {
            value: value.into(),
            media_type: media_type.into(),
            tags: Tags::default(),
            lifetime,
            stored_at: now,
            refill_took: Duration::ZERO,
            revision: None,
            known_tag: None,
            packed: None,
        }
    }

    /// A negative entry: the origin has no value for the key. It spares the origin repeated reads.
    pub fn negative(max_age: Duration, now: Timestamp) -> Self {
        Self::new(Bytes::new(), NEGATIVE_TYPE, Lifetime::of(max_age), now)
    }

    /// Whether it is a negative entry.
    pub fn is_negative(&self) -> bool {
        self.media_type.number() == Some(NEGATIVE_NUMBER)
    }

    /// The same entry with the time that its refill took, which is stored to about three percent.
    pub fn refilled_in(mut self, took: Duration) -> Self {
        self.refill_took = took;
        self
    }

    /// The same entry, to be stored compressed if its value has more than `bytes` and that saves
    /// something; readers get the value as it is.
    pub fn packed_above(mut self, bytes: Option<u64>) -> Self {
        if bytes.is_some_and(|bytes| self.value.len() as u64 > bytes) {
            self.packed = pack(&self.value).map(Box::new);
        }
        self
    }

    /// The same entry with `tags`.
    pub fn with_tags(mut self, tags: impl Into<Tags>) -> Self {
        self.tags = tags.into();
        self
    }

    /// The validator of media type and value: computed on demand, or stored with large values.
    pub fn entity_tag(&self) -> EntityTag {
        self.known_tag.unwrap_or_else(|| EntityTag::of(self.media_type.as_str(), &self.value))
    }

    /// How fresh the entry is at `now`.
    pub fn freshness(&self, now: Timestamp) -> Freshness {
        self.lifetime.freshness(self.stored_at, now)
    }

    /// When the entry can no longer be served at all.
    pub fn ends_at(&self) -> Timestamp {
        self.stored_at + self.lifetime.total()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entity_tags_depend_on_bytes_and_media_type_and_survive_text() {
        let a = EntityTag::of("text/plain", b"one");
        assert_eq!(a, EntityTag::of("text/plain", b"one"));
        assert_ne!(a, EntityTag::of("text/plain", b"two"));
        assert_ne!(a, EntityTag::of("application/json", b"one"));
        assert_eq!(EntityTag::parse(&a.to_string()), Some(a));
    }

    #[test]
    fn malformed_entity_tags_are_refused() {
        for text in ["", "\"", "abc", "\"abc\"", "W/\"00\"", "\"+0000000000000000000000000000000\""]
        {
            assert_eq!(EntityTag::parse(text), None, "{text}");
        }
    }

    #[test]
    fn common_media_types_are_numbered_and_others_interned() {
        for text in USUAL {
            let media_type = MediaType::new(text);
            assert_eq!(MediaType::usual(media_type.number().unwrap()).as_str(), text);
        }
        let own = MediaType::new("application/x-tide-table");
        assert_eq!((own.number(), own.as_str()), (None, "application/x-tide-table"));
    }

    #[test]
    fn no_tags_take_no_memory() {
        assert_eq!(Tags::from(Vec::new()), Tags::default());
        assert!(Tags::default().is_empty());
    }
}
