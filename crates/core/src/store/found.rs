//! An entry that was found.

use std::sync::{Arc, OnceLock};
use std::time::Duration;

use bytes::Bytes;

use super::blob::Blob;
use super::metadata::EntryMetadata;
use super::packing::unpack;
use super::slots::Times;
use crate::entry::{EntityTag, Entry, EntryRevision, MediaType, NEGATIVE_NUMBER, Tag, Tags};
use crate::lifetime::{Freshness, Lifetime};
use crate::time::Timestamp;

/// An entry that was found, and its freshness at the look-up. It shares the value with the store,
/// which may drop or replace the entry meanwhile.
#[derive(Debug, Clone)]
pub struct EntryRef {
    blob: Blob,
    times: Times,
    metadata: Option<Arc<EntryMetadata>>,
    freshness: Freshness,
    /// Of a compressed value: what it was, once somebody asked.
    unpacked: Option<Box<OnceLock<Bytes>>>,
}

/// Keeps a value's memory while [`Bytes`] refer to it.
struct Value(Blob);

impl AsRef<[u8]> for Value {
    fn as_ref(&self) -> &[u8] {
        self.0.stored()
    }
}

impl EntryRef {
    pub(super) fn new(
        blob: Blob,
        times: Times,
        metadata: Option<Arc<EntryMetadata>>,
        freshness: Freshness,
    ) -> Self {
        let unpacked = blob.is_packed().then(Box::default);
        Self { blob, times, metadata, freshness, unpacked }
    }

    /// The entry's key.
    pub fn key(&self) -> &str {
        self.blob.key()
    }

    /// The value's bytes. A compressed value is decompressed by the first call.
    pub fn value(&self) -> &[u8] {
        match &self.unpacked {
            Some(unpacked) => unpacked.get_or_init(|| unpack(self.blob.stored())),
            None => self.blob.stored(),
        }
    }

    /// The length of the value, without decompressing it.
    pub fn value_length(&self) -> usize {
        self.blob.length()
    }

    /// The value's bytes, shared beyond the life of this.
    pub fn bytes(&self) -> Bytes {
        match &self.unpacked {
            Some(unpacked) => unpacked.get_or_init(|| unpack(self.blob.stored())).clone(),
            None if self.blob.length() == 0 => Bytes::new(),
            None => Bytes::from_owner(Value(self.blob.clone())),
        }
    }

    /// The value's media type.
    pub fn media_type(&self) -> MediaType {
        let own = self.metadata.as_ref().and_then(|metadata| metadata.media_type.clone());
        own.unwrap_or_else(|| MediaType::usual(self.blob.media_type()))
    }

    /// The entry's tags.
    pub fn tags(&self) -> &[Tag] {
        self.metadata.as_ref().map_or(&[], |metadata| &metadata.tags)
    }

    /// The revision of the value; a change of lifetime keeps it.
    pub fn revision(&self) -> EntryRevision {
        self.times.revision()
    }

    /// When the value was stored.
    pub fn stored_at(&self) -> Timestamp {
        self.times.stored_at()
    }

    /// How long the entry may be served, counted from when the value was stored.
    pub fn lifetime(&self) -> Lifetime {
        let mut lifetime = Lifetime::of(self.times.max_age());
        if let Some(metadata) = &self.metadata {
            lifetime.stale_while_revalidate = metadata.stale_while_revalidate;
            lifetime.stale_if_error = metadata.stale_if_error;
        }
        lifetime
    }

    /// The validator of media type and value.
    pub fn entity_tag(&self) -> EntityTag {
        self.blob
            .entity_tag()
            .unwrap_or_else(|| EntityTag::of(self.media_type().as_str(), self.value()))
    }

    /// Whether it is a negative entry rather than a value.
    pub fn is_negative(&self) -> bool {
        self.blob.media_type() == NEGATIVE_NUMBER
    }

    /// How long the refill took that brought it, to about three percent; zero when it came
    /// otherwise.
    pub fn refill_took(&self) -> Duration {
        self.blob.refill_time().took()
    }

    /// The freshness at the look-up, or after the change that returned it. Only a change of the
    /// lifetime returns an entry that has ended, if that is what ended it.
    pub fn freshness(&self) -> Freshness {
        self.freshness
    }

    /// The entry, whose bytes are shared with the store.
    pub fn entry(&self) -> Entry {
        Entry {
            value: self.bytes(),
            media_type: self.media_type(),
            tags: self
                .metadata
                .as_ref()
                .map_or_else(Tags::default, |metadata| metadata.tags.clone()),
            lifetime: self.lifetime(),
            stored_at: self.stored_at(),
            refill_took: self.refill_took(),
            revision: Some(self.revision()),
            known_tag: self.blob.entity_tag(),
            packed: None,
        }
    }
}
