//! The places of entries: numbered slots in chunks, which come and go as they fill and empty.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::Duration;

use super::blob::Blob;
use super::memory::allocated;
use crate::entry::EntryRevision;
use crate::time::Timestamp;

/// Slots of one chunk; the bits of a [`u32`].
pub(super) const CHUNK: usize = 32;

/// The maximum heat: requests since the last pass of the hand.
const HOTTEST: u8 = 3;

const HEAT: u8 = 0b0011;
const WINDOW: u8 = 0b0100;
const SEEN: u8 = 0b1000;

/// The revision of an entry, which says when it was stored (53 bits), and its max-age: 34 bits,
/// whose unit is the millisecond up to 198 days and the second beyond, and one that says which.
#[derive(Debug, Clone, Copy)]
pub(super) struct Times([u8; 11]);

const MAX_AGE_BITS: u32 = 34;
const IN_SECONDS: u64 = 1 << MAX_AGE_BITS;
const MAX_AGE: u64 = IN_SECONDS - 1;

impl Times {
    pub(super) fn new(stored_at: Timestamp, max_age: Duration) -> Self {
        Self::of(EntryRevision::at(stored_at), max_age)
    }

    fn of(revision: EntryRevision, max_age: Duration) -> Self {
        let milliseconds = u64::try_from(max_age.as_millis()).unwrap_or(u64::MAX);
        let max_age = match milliseconds {
            0..=MAX_AGE => milliseconds,
            _ => IN_SECONDS | milliseconds.div_ceil(1_000).min(MAX_AGE),
        };
        let both = u128::from(revision.number()) << (MAX_AGE_BITS + 1) | u128::from(max_age);
        let mut bytes = [0; 11];
        bytes.copy_from_slice(&both.to_le_bytes()[..11]);
        Self(bytes)
    }

    /// The same with a later revision; the entry ends when it would have ended.
    pub(super) fn revised(self, revision: EntryRevision) -> Self {
        let later = revision.stored_at().since(self.stored_at());
        Self::of(revision, self.max_age().saturating_sub(later))
    }

    /// The same with another max-age, counted from when the entry was stored.
    pub(super) fn with_max_age(self, max_age: Duration) -> Self {
        Self::of(self.revision(), max_age)
    }

    fn bits(self) -> u128 {
        let mut bytes = [0; 16];
        bytes[..11].copy_from_slice(&self.0);
        u128::from_le_bytes(bytes)
    }

    pub(super) fn revision(self) -> EntryRevision {
        EntryRevision::from_number((self.bits() >> (MAX_AGE_BITS + 1)) as u64)
    }

    pub(super) fn stored_at(self) -> Timestamp {
        self.revision().stored_at()
    }

    pub(super) fn max_age(self) -> Duration {
        let bits = self.bits() as u64;
        match bits & IN_SECONDS {
            0 => Duration::from_millis(bits & MAX_AGE),
            _ => Duration::from_secs(bits & MAX_AGE),
        }
    }
}

/// One slot: 24 bytes, so that everything a hit reads lies together.
#[derive(Debug)]
struct Slot {
    blob: Option<Blob>,
    hash: u32,
    times: Times,
    /// Heat, and where the slot stands in the order of eviction. Hits write here under a shared
    /// lock, which is why it is atomic.
    mark: AtomicU8,
}

#[derive(Debug)]
pub(super) struct Chunk {
    slots: [Slot; CHUNK],
    filled: u32,
    /// Slots whose entries have an metadata.
    metadata: u32,
    /// The numbers of those in the shard's table; there while any slot has one.
    metadata_numbers: Option<Box<[u32; CHUNK]>>,
}

impl Chunk {
    fn empty() -> Box<Self> {
        let slot = |_| Slot { blob: None, hash: 0, times: Times([0; 11]), mark: AtomicU8::new(0) };
        let slots = std::array::from_fn(slot);
        Box::new(Self { slots, filled: 0, metadata: 0, metadata_numbers: None })
    }
}

/// Numbered slots. A slot's number stays with its entry as long as that lives.
#[derive(Debug, Default)]
pub(super) struct Slots {
    chunks: Vec<Option<Box<Chunk>>>,
    /// Chunks with an empty slot; the lowest is filled first, so that high ones empty and go.
    with_room: BTreeSet<u32>,
    /// Chunks that were given back, below the last one.
    gone: BTreeSet<u32>,
    live_chunks: usize,
    /// Chunks with numbers of metadata.
    with_extras: usize,
    filled: usize,
}

fn place(slot: u32) -> (usize, usize) {
    (slot as usize / CHUNK, slot as usize % CHUNK)
}

impl Slots {
    fn chunk(&self, slot: u32) -> &Chunk {
        match self.chunks.get(slot as usize / CHUNK) {
            Some(Some(chunk)) => chunk,
            _ => unreachable!("slot {slot} is in use, so its chunk is there"),
        }
    }

    fn chunk_mut(&mut self, slot: u32) -> &mut Chunk {
        match self.chunks.get_mut(slot as usize / CHUNK) {
            Some(Some(chunk)) => chunk,
            _ => unreachable!("slot {slot} is in use, so its chunk is there"),
        }
    }

    /// How many slots are filled.
    pub(super) fn filled(&self) -> usize {
        self.filled
    }

    /// How many chunks there are, those that were given back in the middle included.
    pub(super) fn chunks(&self) -> usize {
        self.chunks.len()
    }

    /// One more than the highest slot number there may be.
    pub(super) fn end(&self) -> u32 {
        (self.chunks.len() * CHUNK) as u32
    }

    fn slot(&self, slot: u32) -> &Slot {
        &self.chunk(slot).slots[place(slot).1]
    }

    fn slot_mut(&mut self, slot: u32) -> &mut Slot {
        &mut self.chunk_mut(slot).slots[place(slot).1]
    }

    pub(super) fn blob(&self, slot: u32) -> &Blob {
        match &self.slot(slot).blob {
            Some(blob) => blob,
            None => unreachable!("slot {slot} is in use, so it is filled"),
        }
    }

    pub(super) fn hash(&self, slot: u32) -> u32 {
        self.slot(slot).hash
    }

    pub(super) fn times(&self, slot: u32) -> Times {
        self.slot(slot).times
    }

    pub(super) fn set_times(&mut self, slot: u32, times: Times) {
        self.slot_mut(slot).times = times;
    }

    /// The number of what a filled slot's entry has beyond the slot.
    pub(super) fn metadata(&self, slot: u32) -> Option<u32> {
        let (chunk, at) = (self.chunk(slot), place(slot).1);
        let has = chunk.metadata & (1 << at) != 0;
        chunk.metadata_numbers.as_ref().filter(|_| has).map(|numbers| numbers[at])
    }

    /// Sets that number.
    pub(super) fn set_metadata(&mut self, slot: u32, number: Option<u32>) {
        let at = place(slot).1;
        let chunk = self.chunk_mut(slot);
        let had = chunk.metadata_numbers.is_some();
        match number {
            Some(number) => {
                chunk.metadata |= 1 << at;
                chunk.metadata_numbers.get_or_insert_with(|| Box::new([0; CHUNK]))[at] = number;
            }
            None => {
                chunk.metadata &= !(1 << at);
                if chunk.metadata == 0 {
                    chunk.metadata_numbers = None;
                }
            }
        }
        let has = chunk.metadata_numbers.is_some();
        self.with_extras = self.with_extras + usize::from(has) - usize::from(had);
    }

    /// Fills an empty slot; returns its number.
    pub(super) fn fill(&mut self, hash: u32, blob: Blob, times: Times) -> u32 {
        let number = match self.with_room.first() {
            Some(chunk) => *chunk,
            None => {
                let number = self.gone.pop_first().unwrap_or(self.chunks.len() as u32);
                match self.chunks.get_mut(number as usize) {
                    Some(place) => *place = Some(Chunk::empty()),
                    None => self.chunks.push(Some(Chunk::empty())),
                }
                self.live_chunks += 1;
                self.with_room.insert(number);
                number
            }
        };
        let Some(Some(chunk)) = self.chunks.get_mut(number as usize) else {
            unreachable!("chunk {number} has room, so it is there")
        };
        let at = chunk.filled.trailing_ones() as usize;
        chunk.filled |= 1 << at;
        chunk.slots[at] = Slot { blob: Some(blob), hash, times, mark: AtomicU8::new(0) };
        if chunk.filled == u32::MAX {
            self.with_room.remove(&number);
        }
        self.filled += 1;
        number * CHUNK as u32 + at as u32
    }

    /// Puts another blob into a filled slot; returns the previous one.
    pub(super) fn replace(&mut self, slot: u32, blob: Blob, times: Times) -> Option<Blob> {
        let slot = self.slot_mut(slot);
        slot.times = times;
        slot.blob.replace(blob)
    }

    /// Empties a filled slot; a chunk without entries is given back with the last of them.
    pub(super) fn empty(&mut self, slot: u32) -> (Option<Blob>, Option<Box<Chunk>>) {
        let (number, at) = place(slot);
        let chunk = self.chunk_mut(slot);
        let Some(blob) = chunk.slots[at].blob.take() else { return (None, None) };
        let mut gone = None;
        let was_full = chunk.filled == u32::MAX;
        chunk.filled &= !(1 << at);
        let is_empty = chunk.filled == 0;
        self.filled -= 1;
        if is_empty {
            gone = self.chunks[number].take();
            self.live_chunks -= 1;
            self.with_room.remove(&(number as u32));
            self.gone.insert(number as u32);
            while self.chunks.last().is_some_and(Option::is_none) {
                self.chunks.pop();
                self.gone.remove(&(self.chunks.len() as u32));
            }
        } else if was_full {
            self.with_room.insert(number as u32);
        }
        (Some(blob), gone)
    }

    /// The filled slots of one chunk, `None` beyond the last.
    pub(super) fn filled_of(&self, chunk: usize) -> Option<impl Iterator<Item = u32> + use<>> {
        let filled = self.chunks.get(chunk)?.as_ref().map_or(0, |c| c.filled);
        let first = (chunk * CHUNK) as u32;
        Some((0..CHUNK as u32).filter(move |at| filled & (1 << at) != 0).map(move |at| first + at))
    }

    /// The slots of one chunk whose entries have metadata, `None` beyond the last chunk.
    pub(super) fn extras_of(&self, chunk: usize) -> Option<impl Iterator<Item = u32> + use<>> {
        let metadata = self.chunks.get(chunk)?.as_ref().map_or(0, |c| c.metadata);
        let first = (chunk * CHUNK) as u32;
        Some(
            (0..CHUNK as u32).filter(move |at| metadata & (1 << at) != 0).map(move |at| first + at),
        )
    }

    fn mark(&self, slot: u32) -> &AtomicU8 {
        &self.slot(slot).mark
    }

    /// Counts a request for a filled slot's entry. Concurrent requests may count as one: only the
    /// eviction order depends on it.
    pub(super) fn touch(&self, slot: u32) {
        let mark = self.mark(slot);
        let now = mark.load(Ordering::Relaxed);
        if now & HEAT < HOTTEST {
            mark.store(now + 1, Ordering::Relaxed);
        }
    }

    pub(super) fn heat(&self, slot: u32) -> u8 {
        self.mark(slot).load(Ordering::Relaxed) & HEAT
    }

    /// Cools by `by`, down to nothing.
    pub(super) fn cool(&mut self, slot: u32, by: u8) {
        let mark = self.slot_mut(slot).mark.get_mut();
        *mark = (*mark & !HEAT) | (*mark & HEAT).saturating_sub(by);
    }

    pub(super) fn in_window(&self, slot: u32) -> bool {
        self.mark(slot).load(Ordering::Relaxed) & WINDOW != 0
    }

    pub(super) fn set_in_window(&mut self, slot: u32, within: bool) {
        let mark = self.slot_mut(slot).mark.get_mut();
        *mark = if within { *mark | WINDOW } else { *mark & !WINDOW };
    }

    /// Marks a slot as seen; returns whether it was unseen.
    pub(super) fn see(&mut self, slot: u32, seen: bool) -> bool {
        let mark = self.slot_mut(slot).mark.get_mut();
        let was = *mark & SEEN != 0;
        *mark = if seen { *mark | SEEN } else { *mark & !SEEN };
        was != seen
    }

    /// Whether a slot number is filled at the moment.
    pub(super) fn is_filled(&self, slot: u32) -> bool {
        let (number, at) = place(slot);
        matches!(self.chunks.get(number), Some(Some(chunk)) if chunk.filled & (1 << at) != 0)
    }

    /// Removes the last chunk's blobs, to free a large memory bit by bit; `None` when nothing is
    /// left.
    pub(super) fn pop_chunk(&mut self) -> Option<impl Iterator<Item = Blob>> {
        let last = self.chunks.pop()?;
        self.with_room.remove(&(self.chunks.len() as u32));
        self.gone.remove(&(self.chunks.len() as u32));
        if let Some(chunk) = &last {
            self.live_chunks -= 1;
            self.with_extras -= usize::from(chunk.metadata_numbers.is_some());
            self.filled -= chunk.filled.count_ones() as usize;
        }
        Some(last.into_iter().flat_map(|chunk| chunk.slots.into_iter().filter_map(|s| s.blob)))
    }

    /// The memory of the slots themselves.
    pub(super) fn memory(&self) -> u64 {
        let table = self.chunks.capacity() * size_of::<Option<Box<Chunk>>>();
        self.live_chunks as u64 * allocated(size_of::<Chunk>())
            + self.with_extras as u64 * allocated(size_of::<[u32; CHUNK]>())
            + table as u64
            + (self.with_room.len() + self.gone.len()) as u64 * 8
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::blob::StoredValue;
    use super::*;
    use crate::early::RefillTime;

    fn times() -> Times {
        Times::new(Timestamp::from_millis(1), Duration::from_millis(2))
    }

    fn blob(key: &str) -> Blob {
        let value = StoredValue { bytes: b"", is_packed: false };
        Blob::new(key, value, 0, RefillTime::default(), || unreachable!("the value is small"))
    }

    #[test]
    fn slot_times_cover_distant_moments_and_long_ages() {
        let stored_at = Timestamp::from_millis(4_386_614_399_999); // the end of 2108
        let years = |years: u64| Duration::from_secs(years * 366 * 24 * 3_600);
        let times = Times::new(stored_at, years(20));
        assert_eq!((times.stored_at(), times.max_age()), (stored_at, years(20)));
        let of = |max_age| Times::new(stored_at, Duration::from_millis(max_age)).max_age();
        assert_eq!(of(MAX_AGE).as_millis(), u128::from(MAX_AGE), "to the millisecond");
        assert_eq!(of(MAX_AGE + 1), Duration::from_secs(MAX_AGE / 1_000 + 1), "to the second");
        let beyond = Times::new(Timestamp::from_millis(u64::MAX), years(1_000));
        assert_eq!(beyond.stored_at().as_millis(), (1 << 42) - 1, "and is kept at the bound");
        assert_eq!(Times::new(stored_at, Duration::MAX).max_age(), Duration::from_secs(MAX_AGE));
        let ends = |times: Times| times.stored_at() + times.max_age();
        let times = Times::new(Timestamp::from_millis(7), Duration::from_millis(MAX_AGE));
        let later = EntryRevision::at(Timestamp::from_millis(1_007)).next();
        let revised = times.revised(later);
        assert_eq!((revised.revision(), ends(revised)), (later, ends(times)));
        let other = revised.with_max_age(years(2));
        assert_eq!((other.revision(), other.max_age()), (later, years(2)));
    }

    #[test]
    fn a_slot_takes_24_bytes() {
        assert_eq!(size_of::<Slot>(), 24);
    }

    #[test]
    fn chunks_are_allocated_and_freed() {
        let mut slots = Slots::default();
        let filled: Vec<u32> = (0..100).map(|n| slots.fill(n, blob("k"), times())).collect();
        assert_eq!(filled, (0..100).collect::<Vec<_>>());
        (32..96).for_each(|slot| assert!(slots.empty(slot).0.is_some()));
        assert_eq!((slots.live_chunks, slots.end()), (2, 128), "the middle is given back");
        (96..100).for_each(|slot| assert!(slots.empty(slot).0.is_some()));
        assert_eq!(slots.end(), 32, "and so is the end");
    }

    proptest! {
        /// Numbers stay with their entries, and no two entries get the same one.
        #[test]
        fn slot_numbers_are_stable(steps in prop::collection::vec(any::<(bool, u8)>(), 1..400)) {
            let mut slots = Slots::default();
            let mut held: Vec<(u32, String)> = Vec::new();
            for (serial, (fill, which)) in steps.into_iter().enumerate() {
                if fill || held.is_empty() {
                    let key = serial.to_string();
                    let slot = slots.fill(serial as u32, blob(&key), times());
                    prop_assert!(held.iter().all(|(taken, _)| *taken != slot));
                    held.push((slot, key));
                } else {
                    let (slot, key) = held.swap_remove(usize::from(which) % held.len());
                    let emptied = slots.empty(slot).0.unwrap();
                    prop_assert_eq!(emptied.key(), key);
                }
                for (slot, key) in &held {
                    prop_assert_eq!(slots.blob(*slot).key(), key);
                }
                prop_assert_eq!(slots.filled(), held.len());
            }
        }
    }
}
