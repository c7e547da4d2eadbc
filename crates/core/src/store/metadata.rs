//! Metadata that few entries have (tags, stale times, unusual media types), stored once for all
//! entries with the same.
//!
//! A [`MetadataTable`] belongs to one partition. It interns metadata and the texts of tags, counts
//! their memory, and forgets each when the last entry that has it is gone.

use std::hash::{BuildHasher, RandomState};
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use super::account::Account;
use super::index::Index;
use super::memory::allocated;
use crate::entry::{Entry, MediaType, Tag, Tags};
use crate::lifetime::Lifetime;

/// A tag of a namespace. Entries remember the generation in which they were stored; invalidating
/// the tag begins a new generation, in which none of them is valid, however many there are.
#[derive(Debug)]
struct TagRecord {
    name: Tag,
    generation: AtomicU32,
    /// How many metadata records have it. Changed only under the table's lock.
    metadata: AtomicUsize,
}

impl TagRecord {
    fn hash(&self, hashing: &RandomState) -> u64 {
        hashing.hash_one(&*self.name)
    }

    /// The memory of the record, its name, and its place in the table.
    fn memory(&self) -> u64 {
        let counters = 2 * size_of::<usize>();
        let place = 2 * (size_of::<(Tag, Arc<Self>)>() + 1) as u64;
        place + allocated(size_of::<Self>() + counters) + allocated(self.name.len() + counters)
    }
}

/// One tag of a metadata record.
#[derive(Debug, Clone)]
struct Tagged {
    record: Arc<TagRecord>,
    generation: u32,
}

impl Tagged {
    fn valid(&self) -> bool {
        self.record.generation.load(Ordering::Acquire) == self.generation
    }

    fn same(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.record, &other.record) && self.generation == other.generation
    }
}

/// Metadata that few entries have.
#[derive(Debug, Default)]
pub(super) struct EntryMetadata {
    pub(super) stale_while_revalidate: Duration,
    pub(super) stale_if_error: Duration,
    pub(super) media_type: Option<MediaType>,
    pub(super) tags: Tags,
    tagged: Box<[Tagged]>,
    /// How many hold it; the table keeps it as long.
    holders: AtomicUsize,
}

impl EntryMetadata {
    /// Whether no tag was invalidated since.
    pub(super) fn valid(&self) -> bool {
        self.tagged.iter().all(Tagged::valid)
    }

    /// The longest time beyond max-age in which the entry may be served.
    pub(super) fn max_stale(&self) -> Duration {
        self.stale_while_revalidate.max(self.stale_if_error)
    }

    fn is_plain(&self) -> bool {
        self.stale_while_revalidate.is_zero()
            && self.stale_if_error.is_zero()
            && self.media_type.is_none()
            && self.tags.is_empty()
    }

    fn same(&self, other: &Self) -> bool {
        self.stale_while_revalidate == other.stale_while_revalidate
            && self.stale_if_error == other.stale_if_error
            && self.media_type == other.media_type
            && self.tagged.len() == other.tagged.len()
            && self.tagged.iter().zip(&other.tagged).all(|(one, other)| one.same(other))
    }

    fn hash(&self, hashing: &RandomState) -> u64 {
        let media_type = self.media_type.as_ref().map(MediaType::as_str);
        let tags: Vec<(usize, u32)> = self
            .tagged
            .iter()
            .map(|tagged| (Arc::as_ptr(&tagged.record).addr(), tagged.generation))
            .collect();
        hashing.hash_one((self.stale_while_revalidate, self.stale_if_error, media_type, tags))
    }

    /// The memory it takes with its place in the table, without the records of its tags.
    fn memory(&self) -> u64 {
        let counters = 2 * size_of::<usize>();
        let place = 2 * (size_of::<Arc<Self>>() + 1) as u64;
        let mut memory = place + allocated(size_of::<Self>() + counters);
        if !self.tags.is_empty() {
            memory += allocated(self.tags.len() * size_of::<Tag>() + counters);
            memory += allocated(self.tagged.len() * size_of::<Tagged>());
        }
        if let Some(media_type) = &self.media_type {
            memory += allocated(media_type.as_str().len() + counters);
        }
        memory
    }
}

/// A counted reference to a metadata record, which keeps it in the table.
#[derive(Debug)]
pub(super) struct Held {
    metadata: Arc<EntryMetadata>,
    table: Arc<MetadataTable>,
}

impl Held {
    pub(super) fn metadata(&self) -> &Arc<EntryMetadata> {
        &self.metadata
    }

    /// The memory of the record, with that of its tags, which others may share.
    pub(super) fn memory(&self) -> u64 {
        let tags = self.metadata.tagged.iter().map(|tagged| tagged.record.memory());
        self.metadata.memory() + tags.sum::<u64>()
    }

    /// The same with the stale parts of another lifetime; `None` when nothing is left.
    pub(super) fn with_lifetime(&self, lifetime: Lifetime) -> Option<Self> {
        self.table.hold(EntryMetadata {
            stale_while_revalidate: lifetime.stale_while_revalidate,
            stale_if_error: lifetime.stale_if_error,
            media_type: self.metadata.media_type.clone(),
            tags: self.metadata.tags.clone(),
            // Their generations stay: what was invalidated is not made valid again.
            tagged: self.metadata.tagged.clone(),
            holders: AtomicUsize::new(0),
        })
    }
}

impl Clone for Held {
    fn clone(&self) -> Self {
        // This one holds it, so the table has it.
        self.metadata.holders.fetch_add(1, Ordering::AcqRel);
        Self { metadata: Arc::clone(&self.metadata), table: Arc::clone(&self.table) }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        if self.metadata.holders.fetch_sub(1, Ordering::AcqRel) == 1 {
            self.table.release(&self.metadata);
        }
    }
}

/// The metadata and tags of one partition.
#[derive(Debug)]
pub(super) struct MetadataTable {
    interned: Mutex<Interned>,
    hashing: RandomState,
    account: Arc<Account>,
}

#[derive(Debug, Default)]
struct Interned {
    metadata: Index<Arc<EntryMetadata>>,
    tags: Index<Arc<TagRecord>>,
}

impl MetadataTable {
    /// An empty table that also counts its memory in `partition`.
    pub(super) fn new(partition: &Arc<Account>) -> Self {
        let (interned, hashing) = (Mutex::default(), RandomState::new());
        Self { interned, hashing, account: Account::within(partition) }
    }

    // The lock of a shard may be held while this one is taken, never the reverse.
    fn interned(&self) -> MutexGuard<'_, Interned> {
        self.interned.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Its memory.
    #[cfg(test)]
    pub(super) fn used(&self) -> u64 {
        self.account.bytes()
    }

    /// The metadata of a new entry; `None` for most.
    pub(super) fn of(self: &Arc<Self>, entry: &Entry) -> Option<Held> {
        let Lifetime { stale_while_revalidate, stale_if_error, .. } = entry.lifetime;
        let mut metadata = EntryMetadata {
            stale_while_revalidate,
            stale_if_error,
            media_type: Some(&entry.media_type).filter(|m| m.number().is_none()).cloned(),
            tags: entry.tags.clone(),
            ..EntryMetadata::default()
        };
        if metadata.is_plain() {
            return None;
        }
        let mut interned = self.interned();
        if !metadata.tags.is_empty() {
            let tagged: Vec<Tagged> =
                metadata.tags.iter().map(|name| interned.tagged(name, &self.hashing)).collect();
            // The table's texts, so that equal ones are stored once.
            let names: Vec<Tag> = tagged.iter().map(|t| Arc::clone(&t.record.name)).collect();
            (metadata.tags, metadata.tagged) = (names.into(), tagged.into());
        }
        Some(self.hold_in(&mut interned, metadata))
    }

    /// The metadata of an entry without any after a change of lifetime.
    pub(super) fn of_lifetime(self: &Arc<Self>, lifetime: Lifetime) -> Option<Held> {
        let Lifetime { stale_while_revalidate, stale_if_error, .. } = lifetime;
        self.hold(EntryMetadata {
            stale_while_revalidate,
            stale_if_error,
            ..EntryMetadata::default()
        })
    }

    fn hold(self: &Arc<Self>, metadata: EntryMetadata) -> Option<Held> {
        (!metadata.is_plain()).then(|| self.hold_in(&mut self.interned(), metadata))
    }

    fn hold_in(self: &Arc<Self>, interned: &mut Interned, metadata: EntryMetadata) -> Held {
        let hash = metadata.hash(&self.hashing);
        let known = interned.metadata.find(hash, |known| known.same(&metadata));
        if let Some(known) = known {
            known.holders.fetch_add(1, Ordering::AcqRel);
            return Held { metadata: Arc::clone(known), table: Arc::clone(self) };
        }
        metadata.holders.store(1, Ordering::Release);
        let mut memory = metadata.memory();
        for tagged in &metadata.tagged {
            if tagged.record.metadata.fetch_add(1, Ordering::Relaxed) == 0 {
                memory += tagged.record.memory();
            }
        }
        let metadata = Arc::new(metadata);
        let hash_of = |other: &Arc<EntryMetadata>| other.hash(&self.hashing);
        interned.metadata.insert(hash, Arc::clone(&metadata), hash_of);
        self.account.charge(memory, 0);
        Held { metadata, table: Arc::clone(self) }
    }

    /// Forgets a record that nobody holds, with the tags that no other one has.
    fn release(&self, metadata: &Arc<EntryMetadata>) {
        let mut interned = self.interned();
        // Somebody may hold it again, or have released it already.
        if metadata.holders.load(Ordering::Acquire) > 0 {
            return;
        }
        let hash_of = |other: &Arc<EntryMetadata>| other.hash(&self.hashing);
        let is = |known: &Arc<EntryMetadata>| Arc::ptr_eq(known, metadata);
        if interned.metadata.remove(hash_of(metadata), is, hash_of).is_none() {
            return;
        }
        let mut memory = metadata.memory();
        for tagged in &metadata.tagged {
            if tagged.record.metadata.fetch_sub(1, Ordering::Relaxed) == 1 {
                memory += tagged.record.memory();
                let hash_of = |record: &Arc<TagRecord>| record.hash(&self.hashing);
                let is = |known: &Arc<TagRecord>| Arc::ptr_eq(known, &tagged.record);
                interned.tags.remove(hash_of(&tagged.record), is, hash_of);
            }
        }
        self.account.refund(memory);
    }

    /// Invalidates every entry that carries a tag; returns whether any entry may carry it.
    pub(super) fn invalidate(&self, tag: &str) -> bool {
        let interned = self.interned();
        let hash = self.hashing.hash_one(tag);
        let found = interned.tags.find(hash, |record| *record.name == *tag);
        let Some(record) = found else { return false };
        record.generation.fetch_add(1, Ordering::Release);
        true
    }
}

impl Interned {
    fn tagged(&mut self, name: &Tag, hashing: &RandomState) -> Tagged {
        let hash = hashing.hash_one(&**name);
        let known = self.tags.find(hash, |record| record.name == *name).cloned();
        let record = known.unwrap_or_else(|| {
            let record = Arc::new(TagRecord {
                name: Arc::clone(name),
                generation: AtomicU32::new(0),
                metadata: AtomicUsize::new(0),
            });
            self.tags.insert(hash, Arc::clone(&record), |record| record.hash(hashing));
            record
        });
        let generation = record.generation.load(Ordering::Acquire);
        Tagged { record, generation }
    }
}

/// The metadata of the entries of one shard, by small numbers.
#[derive(Debug, Default)]
pub(super) struct ShardMetadata {
    places: Vec<Option<(Held, u32)>>,
    /// Numbers that may be free; the others are skipped.
    free: Vec<u32>,
    numbers: Index<u32>,
}

fn address_hash(metadata: &Arc<EntryMetadata>) -> u64 {
    (Arc::as_ptr(metadata).addr() as u64 >> 4).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

/// The hash of the record with a number.
fn hash_in(places: &[Option<(Held, u32)>], number: u32) -> u64 {
    let there = places.get(number as usize).and_then(Option::as_ref);
    there.map_or(0, |(there, _)| address_hash(there.metadata()))
}

impl ShardMetadata {
    pub(super) fn held(&self, number: u32) -> &Held {
        match self.places.get(number as usize) {
            Some(Some((held, _))) => held,
            _ => unreachable!("record {number} is in use, so it is there"),
        }
    }

    /// The number of an entry's record.
    pub(super) fn add(&mut self, held: Held) -> u32 {
        let (hash, places) = (address_hash(held.metadata()), &mut self.places);
        let is_same = |number: &u32| {
            let there = places.get(*number as usize).and_then(Option::as_ref);
            there.is_some_and(|(there, _)| Arc::ptr_eq(there.metadata(), held.metadata()))
        };
        if let Some(number) = self.numbers.find(hash, is_same).copied() {
            if let Some(Some((_, entries))) = places.get_mut(number as usize) {
                *entries += 1;
            }
            return number;
        }
        let free = loop {
            match self.free.pop() {
                Some(number) if matches!(places.get(number as usize), Some(None)) => break number,
                Some(_) => {}
                None => {
                    places.push(None);
                    break places.len() as u32 - 1;
                }
            }
        };
        places[free as usize] = Some((held, 1));
        self.numbers.insert(hash, free, |number| hash_in(places, *number));
        free
    }

    /// Releases an entry's record; returns it when no other entry of the shard has it.
    pub(super) fn remove(&mut self, number: u32) -> Option<Held> {
        let place = self.places.get_mut(number as usize)?;
        let (held, entries) = place.as_mut()?;
        *entries -= 1;
        if *entries > 0 {
            return None;
        }
        let hash = address_hash(held.metadata());
        let gone = place.take().map(|(held, _)| held);
        let places = &self.places;
        self.numbers.remove(hash, |known| *known == number, |number| hash_in(places, *number));
        self.free.push(number);
        while matches!(self.places.last(), Some(None)) {
            self.places.pop();
        }
        // A list that was much larger shrinks.
        if self.places.capacity() > 4 * self.places.len() + 64 {
            self.places.shrink_to(2 * self.places.len());
            let places = &self.places;
            self.free.retain(|number| matches!(places.get(*number as usize), Some(None)));
            self.free.shrink_to(2 * self.free.len());
        }
        gone
    }

    /// Releases some records of a shard that is out of use; returns whether there were any.
    pub(super) fn dismantle(&mut self, most: usize) -> bool {
        self.numbers = Index::default();
        self.free = Vec::new();
        let keep = self.places.len().saturating_sub(most);
        let gone = self.places.len() > keep;
        self.places.truncate(keep);
        gone
    }

    /// The memory of the numbers, without that of the records.
    pub(super) fn memory(&self) -> u64 {
        let places = self.places.capacity() * size_of::<Option<(Held, u32)>>();
        let free = self.free.capacity() * size_of::<u32>();
        (places + free) as u64 + self.numbers.memory()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::{Precondition, Quota, Store};
    use crate::{Key, NamespaceId, Timestamp};

    const NOW: Timestamp = Timestamp::from_millis(1_700_000_000_000);

    fn key(n: u64) -> Key {
        Key::new(format!("board/{n}")).unwrap()
    }

    fn entry(media_type: &str, tags: &[&str]) -> Entry {
        let hour = Lifetime::of(Duration::from_secs(3_600));
        let tags: Vec<Tag> = tags.iter().map(|tag| Tag::from(*tag)).collect();
        Entry::new("v", media_type, hour, NOW).with_tags(tags)
    }

    fn tidy(store: &Store) {
        while store.tidy(64, NOW).1 {}
    }

    /// The memory per entry of 20,000 entries that `entry_of` makes.
    fn each(entry_of: impl Fn(u64) -> Entry) -> u64 {
        let store = Store::new(256 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        for n in 0..20_000 {
            partition.put(&key(n), &entry_of(n), Precondition::Always, NOW).unwrap();
        }
        store.used() / 20_000
    }

    #[test]
    fn shared_metadata_is_interned_once_in_any_order() {
        let plain = each(|_| entry("text/plain", &[]));
        let types = ["a", "b"].map(|letter| format!("application/{}", letter.repeat(250)));
        let alternating = each(|n| entry(&types[(n % 2) as usize], &[]));
        assert!(alternating <= plain + 8, "{alternating} and {plain}");
        let names: Vec<String> = (0..32).map(|n| format!("harbor-{n}")).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let tagged = each(|_| entry("text/plain", &names));
        assert!(tagged <= plain + 8, "{tagged} and {plain}");
        let one_of_100 = each(|n| entry("text/plain", &[&format!("line-{}", n % 100)]));
        assert!(one_of_100 <= plain + 40, "{one_of_100} and {plain}");
        let minute = Duration::from_secs(60);
        let stale = Lifetime { stale_if_error: minute, ..Lifetime::of(minute) };
        let stale = each(|_| Entry { lifetime: stale, ..entry("text/plain", &[]) });
        assert!(stale <= plain + 16, "{stale} and {plain}");
    }

    #[test]
    fn unused_metadata_takes_no_memory() {
        let store = Store::new(64 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let unique = |n: u64| entry(&format!("application/x-{n}"), &[&format!("sailing-{n}")]);
        let fill = || {
            for n in 0..5_000 {
                partition.put(&key(n), &unique(n), Precondition::Always, NOW).unwrap();
            }
        };
        fill();
        assert!(partition.metadata.used() > 5_000 * 200);
        // A reader may still have one.
        let read = partition.get(key(7).as_str(), NOW).unwrap();
        partition.clear();
        tidy(&store);
        assert_eq!((partition.metadata.used(), store.used()), (0, 0));
        assert_eq!(&*read.tags()[0], "sailing-7");
        fill();
        (0..5_000).for_each(|n| assert!(partition.delete(key(n).as_str(), NOW)));
        assert_eq!(partition.metadata.used(), 0);
        assert!(!partition.invalidate_tag("sailing-7"), "nothing carries it");
    }

    /// Tags of entries that are gone crowd out nothing: a cap holds as many entries as it did.
    #[test]
    fn unique_tags_leave_a_capped_namespace_full_of_entries() {
        let store = Store::new(64 << 20);
        let cap = 4 << 20;
        let partition = store.open(NamespaceId(1), Quota { reserve: 0, cap, ..Quota::default() });
        let mut fewest = u64::MAX;
        for n in 0..40_000 {
            let tagged = entry("text/plain", &[&format!("sailing-{n}")]);
            partition.put(&key(n), &tagged, Precondition::Always, NOW).unwrap();
            assert!(partition.usage().bytes <= cap);
            if n > 20_000 {
                fewest = fewest.min(partition.usage().entries);
            }
        }
        assert!(fewest > 4_000, "{fewest} entries in {cap} bytes");
    }

    #[test]
    fn a_scan_for_invalidated_entries_ends_despite_new_invalidations() {
        let store = Store::new(256 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        for n in 0..50_000 {
            let tagged = entry("text/plain", &[&format!("line-{}", n % 1_000)]);
            partition.put(&key(n), &tagged, Precondition::Always, NOW).unwrap();
        }
        let mut steps = 0;
        // One invalidation for each step is more than the look can catch up with one by one.
        for line in 0..1_000 {
            partition.invalidate_tag(&format!("line-{line}"));
            store.tidy(64, NOW);
            steps += 1;
        }
        while store.tidy(64, NOW).1 {
            steps += 1;
        }
        assert_eq!(partition.usage().entries, 0);
        assert!(steps < 1_100, "{steps} steps");
    }

    #[test]
    fn a_forgotten_tag_is_a_new_tag_when_it_returns() {
        let store = Store::new(1 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let put = || {
            let tagged = entry("text/plain", &["boards"]);
            partition.put(&key(1), &tagged, Precondition::Always, NOW).unwrap();
        };
        put();
        assert!(partition.invalidate_tag("boards"));
        assert!(partition.get(key(1).as_str(), NOW).is_none());
        put();
        assert!(partition.get(key(1).as_str(), NOW).is_some());
        tidy(&store);
        assert!(partition.get(key(1).as_str(), NOW).is_some());
    }
}
