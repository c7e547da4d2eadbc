//! Key and value bytes of one entry in one allocation, shared by counting references.
//!
//! This is the only unsafe code of the crate. It exists because an entry's header decides how many
//! entries fit into memory: the standard library's `Arc<[u8]>` needs a pointer of two words and two
//! counters of eight bytes each, where twelve bytes hold everything here.

use std::alloc::{Layout, alloc, dealloc, handle_alloc_error};
use std::fmt;
use std::ptr::NonNull;
use std::sync::atomic::{AtomicU32, Ordering, fence};

use super::memory::allocated;
use super::packing::unpacked_length;
use crate::early::RefillTime;
use crate::entry::EntityTag;

/// The header before the bytes of key and value.
#[repr(C)]
struct Head {
    references: AtomicU32,
    value_length: u32,
    key_length: u16,
    media_type: u8,
    refill_time: u8,
}

/// Beyond this many references the process aborts rather than let the count wrap: that would take
/// two billion readers of one value.
const MAX_REFERENCES: u32 = u32::MAX / 2;

/// The key and value of one entry. Cloning shares them.
pub(super) struct Blob(NonNull<Head>);

// SAFETY: the bytes and the lengths never change after `new` returns, and the count is atomic, so
// a Blob may be used and dropped on any thread.
unsafe impl Send for Blob {}
// SAFETY: as for Send; a shared Blob gives out shared slices of bytes that never change.
unsafe impl Sync for Blob {}

/// From this size on, a value's entity tag is stored behind it; hashing a smaller value costs less
/// than that memory.
const TAG_KEPT_FROM: usize = 16 << 10;

/// The bit of the length that says that the value is compressed. Values are far shorter.
const PACKED: u32 = 1 << 31;

/// The bytes of a value as they are stored.
#[derive(Debug, Clone, Copy)]
pub(super) struct StoredValue<'v> {
    pub(super) bytes: &'v [u8],
    /// Whether they are compressed.
    pub(super) is_packed: bool,
}

impl StoredValue<'_> {
    /// Its size.
    pub(super) fn size(self) -> StoredSize {
        StoredSize { bytes: self.bytes.len(), is_packed: self.is_packed }
    }
}

/// The size of a value as it is stored.
#[derive(Debug, Clone, Copy)]
pub(super) struct StoredSize {
    pub(super) bytes: usize,
    pub(super) is_packed: bool,
}

/// The bytes of the entity tag that is kept with a value of a size. That of a compressed value
/// would need it decompressed.
fn tag_bytes(value: StoredSize) -> usize {
    match value.bytes < TAG_KEPT_FROM && !value.is_packed {
        true => 0,
        false => size_of::<u128>(),
    }
}

fn layout(key: usize, value: StoredSize) -> Layout {
    let size = size_of::<Head>() + key + value.bytes + tag_bytes(value);
    match Layout::from_size_align(size, align_of::<Head>()) {
        Ok(layout) => layout,
        // Keys and values are limited to far less before they get here.
        Err(_) => unreachable!("{size} bytes are beyond what can be addressed"),
    }
}

impl Blob {
    /// Copies key and value; `media_type` and `refill_time` are kept for the caller. Both lengths
    /// are within the limits for keys and values, which fit into the header's fields. `entity_tag`
    /// is called only for values large enough to store their tag, and for compressed ones.
    pub(super) fn new(
        key: &str,
        value: StoredValue<'_>,
        media_type: u8,
        refill_time: RefillTime,
        entity_tag: impl FnOnce() -> EntityTag,
    ) -> Self {
        let size = value.size();
        let StoredValue { bytes: value, is_packed } = value;
        assert!(key.len() <= usize::from(u16::MAX) && value.len() < PACKED as usize);
        let layout = layout(key.len(), size);
        let kept = (tag_bytes(size) > 0).then(|| entity_tag().number().to_le_bytes());
        // SAFETY: the layout's size is at least that of Head, so it is not zero. The memory is
        // aligned for Head and large enough for Head, key, value and the tag one after the other;
        // it is new, so nothing else points to it, and every byte that is read later is written
        // here.
        unsafe {
            let Some(head) = NonNull::new(alloc(layout).cast::<Head>()) else {
                handle_alloc_error(layout)
            };
            head.write(Head {
                references: AtomicU32::new(1),
                value_length: value.len() as u32 | if is_packed { PACKED } else { 0 },
                key_length: key.len() as u16,
                media_type,
                refill_time: refill_time.number(),
            });
            let bytes = head.add(1).cast::<u8>().as_ptr();
            bytes.copy_from_nonoverlapping(key.as_ptr(), key.len());
            let behind_key = bytes.add(key.len());
            behind_key.copy_from_nonoverlapping(value.as_ptr(), value.len());
            if let Some(tag) = kept {
                behind_key.add(value.len()).copy_from_nonoverlapping(tag.as_ptr(), tag.len());
            }
            Self(head)
        }
    }

    fn head(&self) -> &Head {
        // SAFETY: the memory lives while any Blob for it does, and Head was written by `new`; it is
        // only ever read through shared references.
        unsafe { self.0.as_ref() }
    }

    fn bytes(&self, from: usize, length: usize) -> &[u8] {
        // SAFETY: `from + length` is within key, value and tag, which `new` wrote right behind Head
        // and nobody changes; they live as long as `self` does, whose lifetime the slice has.
        unsafe { std::slice::from_raw_parts(self.0.add(1).cast::<u8>().as_ptr().add(from), length) }
    }

    pub(super) fn key(&self) -> &str {
        // SAFETY: `new` copied these bytes from a str.
        unsafe { std::str::from_utf8_unchecked(self.bytes(0, self.head().key_length.into())) }
    }

    fn size(&self) -> StoredSize {
        let length = self.head().value_length;
        StoredSize { bytes: (length & !PACKED) as usize, is_packed: length & PACKED != 0 }
    }

    /// Whether the value is compressed.
    pub(super) fn is_packed(&self) -> bool {
        self.size().is_packed
    }

    /// The bytes of the value as they are stored, compressed or not.
    pub(super) fn stored(&self) -> &[u8] {
        self.bytes(self.head().key_length.into(), self.size().bytes)
    }

    /// The length of the value, when it is not compressed.
    pub(super) fn length(&self) -> usize {
        match self.size() {
            StoredSize { is_packed: true, .. } => unpacked_length(self.stored()),
            size => size.bytes,
        }
    }

    /// The entity tag, if it is kept.
    pub(super) fn entity_tag(&self) -> Option<EntityTag> {
        let size = self.size();
        let from = usize::from(self.head().key_length) + size.bytes;
        let bytes = self.bytes(from, tag_bytes(size)).try_into().ok()?;
        Some(EntityTag::from_number(u128::from_le_bytes(bytes)))
    }

    pub(super) fn media_type(&self) -> u8 {
        self.head().media_type
    }

    pub(super) fn refill_time(&self) -> RefillTime {
        RefillTime::from_number(self.head().refill_time)
    }

    /// The memory it takes, with what the allocator adds.
    pub(super) fn memory(&self) -> u64 {
        memory_of(self.head().key_length.into(), self.size())
    }
}

/// The memory that a key and a value take together.
pub(super) fn memory_of(key: usize, value: StoredSize) -> u64 {
    allocated(size_of::<Head>() + key + value.bytes + tag_bytes(value))
}

impl Clone for Blob {
    fn clone(&self) -> Self {
        // Relaxed, as in std's Arc: a new reference is made from an existing one, so nothing that
        // happened before needs to become visible through the count.
        if self.head().references.fetch_add(1, Ordering::Relaxed) > MAX_REFERENCES {
            std::process::abort();
        }
        Self(self.0)
    }
}

impl Drop for Blob {
    fn drop(&mut self) {
        if self.head().references.fetch_sub(1, Ordering::Release) != 1 {
            return;
        }
        // Everything that other threads did with their references happens before the release of
        // the memory, as in std's Arc.
        fence(Ordering::Acquire);
        let layout = layout(self.head().key_length.into(), self.size());
        // SAFETY: the count fell to zero, so this was the last Blob for the memory, which `new`
        // allocated with this very layout. Head and bytes need no drop of their own.
        unsafe { dealloc(self.0.as_ptr().cast(), layout) }
    }
}

impl fmt::Debug for Blob {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Blob").field("key", &self.key()).field("bytes", &self.length()).finish()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn plain(bytes: &[u8]) -> StoredValue<'_> {
        StoredValue { bytes, is_packed: false }
    }

    fn tag() -> EntityTag {
        EntityTag::from_number(7)
    }

    #[test]
    fn large_values_store_their_entity_tag_and_small_ones_compute_it() {
        let blob = |length| Blob::new("k", plain(&vec![1; length]), 0, RefillTime::default(), tag);
        let (small, large) = (blob(TAG_KEPT_FROM - 1), blob(TAG_KEPT_FROM));
        assert_eq!((small.entity_tag(), large.entity_tag()), (None, Some(tag())));
        assert_eq!(large.length(), TAG_KEPT_FROM);
        assert!(large.memory() >= small.memory() + 16);
    }

    #[test]
    fn a_compressed_value_knows_its_length_and_its_tag() {
        let packed = crate::store::packing::pack(&[7; 5_000]).unwrap();
        let value = StoredValue { bytes: &packed, is_packed: true };
        let blob = Blob::new("k", value, 0, RefillTime::default(), tag);
        assert!(blob.is_packed());
        assert_eq!(
            (blob.length(), blob.stored(), blob.entity_tag()),
            (5_000, &packed[..], Some(tag()))
        );
        assert!(blob.memory() < 300);
    }

    proptest! {
        #[test]
        fn blobs_round_trip(key in ".{0,40}", value in prop::collection::vec(any::<u8>(), 0..300), media: u8, time: u8) {
            let blob = Blob::new(&key, plain(&value), media, RefillTime::from_number(time), tag);
            let other = blob.clone();
            drop(blob);
            prop_assert_eq!((other.key(), other.stored(), other.media_type()), (&*key, &*value, media));
            prop_assert_eq!(other.refill_time().number(), time);
        }
    }

    #[test]
    fn references_are_counted_across_threads() {
        let blob = Blob::new("key", plain(b"value"), 0, RefillTime::default(), tag);
        std::thread::scope(|scope| {
            for _ in 0..4 {
                let mine = blob.clone();
                scope.spawn(move || {
                    for _ in 0..1_000 {
                        assert_eq!(mine.clone().stored(), b"value");
                    }
                });
            }
        });
        assert_eq!(blob.head().references.load(Ordering::Relaxed), 1);
    }

    #[test]
    fn the_header_takes_twelve_bytes() {
        assert_eq!(size_of::<Head>(), 12);
        assert_eq!(size_of::<Option<Blob>>(), 8);
    }
}
