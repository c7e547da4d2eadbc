//! An entry: the value bytes and everything that is known about them.

use std::fmt;
use std::sync::Arc;

use bytes::Bytes;

use crate::lifetime::{Freshness, Lifetime};
use crate::time::Timestamp;

/// The most tags that one entry may carry.
pub const MOST_TAGS: usize = 32;

/// The longest tag, in bytes.
pub const LONGEST_TAG: usize = 128;

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

/// A stored value. Cloning shares the bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The value's bytes.
    pub value: Bytes,
    /// The value's media type, as given when it was stored.
    pub media_type: Arc<str>,
    /// Labels for invalidating groups; at most [`MOST_TAGS`].
    pub tags: Arc<[Tag]>,
    /// The validator of media type and value.
    pub entity_tag: EntityTag,
    /// How long the entry may be served.
    pub lifetime: Lifetime,
    /// When it was stored.
    pub stored_at: Timestamp,
}

impl Entry {
    /// An entry without tags.
    pub fn new(
        value: impl Into<Bytes>,
        media_type: impl Into<Arc<str>>,
        lifetime: Lifetime,
        now: Timestamp,
    ) -> Self {
        let (value, media_type) = (value.into(), media_type.into());
        Self {
            entity_tag: EntityTag::of(&media_type, &value),
            value,
            media_type,
            tags: Arc::from([]),
            lifetime,
            stored_at: now,
        }
    }

    /// The same entry with `tags`.
    pub fn with_tags(mut self, tags: impl Into<Arc<[Tag]>>) -> Self {
        self.tags = tags.into();
        self
    }

    /// What the entry is good for at `now`.
    pub fn freshness(&self, now: Timestamp) -> Freshness {
        self.lifetime.freshness(self.stored_at, now)
    }

    /// When the entry can no longer be served in any way.
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
}
