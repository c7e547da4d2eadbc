//! The entries of one namespace.

use std::collections::hash_map::RandomState;
use std::hash::BuildHasher;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};
use std::time::Duration;

use super::account::Account;
use super::blob::{Blob, StoredValue, memory_of};
use super::found::EntryRef;
use super::heat_sample::HeatSample;
use super::listing::ListedEntry;
use super::memory_budget::MemoryBudget;
use super::metadata::{Held, MetadataTable};
use super::outcome::{PutError, PutOutcome, Usage};
use super::precondition::{ConditionFailed, Precondition};
use super::quota::{HeldQuota, Quota};
use super::read_sample::{ReadSample, ReuseSample, SampledRead};
use super::shard::{PreparedEntry, SHARDS, Shard, Tidied};
use super::slots::{CHUNK, Times};
use super::tenant_memory::{MAX_SHRINK, MemoryUser, TenantMemory};
use super::traffic_recording::{RecordedTraffic, TrafficRecording};
use crate::early::RefillTime;
use crate::entry::{Entry, EntryRevision, NEGATIVE_NUMBER};
use crate::heat::{HotKeys, KnownKey};
use crate::key::{Key, NamespaceId};
use crate::lifetime::{Freshness, Lifetime};
use crate::time::Timestamp;

#[derive(Debug)]
struct Cell {
    shard: RwLock<Shard>,
    /// No entry ends before this, in milliseconds.
    soonest: AtomicU64,
}

/// The entries of one namespace. A store makes it; it lives as long as somebody holds it.
///
/// Every entry belongs to exactly one partition and is reached through it alone: two namespaces
/// cannot meet, whatever their keys look like.
#[derive(Debug)]
pub struct Partition {
    namespace: NamespaceId,
    budget: Arc<MemoryBudget>,
    tenant: Arc<TenantMemory>,
    hashing: RandomState,
    cells: Box<[Cell]>,
    pub(super) metadata: Arc<MetadataTable>,
    account: Arc<Account>,
    evicted: AtomicU64,
    expired: AtomicU64,
    read_sample: ReadSample,
    heat_sample: HeatSample,
    recording: TrafficRecording,
    quota: HeldQuota,
    next_to_evict: AtomicUsize,
    next_to_tidy: AtomicUsize,
}

/// The current entry when a value is to be stored.
pub(super) struct There<'s> {
    pub(super) found: EntryRef,
    shard: &'s Shard,
    slot: u32,
}

impl There<'_> {
    /// A reference to the entry's metadata; its tags keep their state, invalidated or not.
    pub(super) fn hold_metadata(&self) -> Option<Held> {
        self.shard.hold_metadata(self.slot)
    }
}

/// What an update stored.
pub(super) struct Updated<T> {
    /// What the decision returned beside the entry.
    pub(super) made: T,
    /// The revision of the entry.
    pub(super) revision: EntryRevision,
}

/// An entry, viewed in place.
#[derive(Debug)]
pub struct EntryView<'s> {
    shard: &'s Shard,
    slot: u32,
    freshness: Freshness,
}

impl EntryView<'_> {
    /// The value's bytes as they are stored: those of a compressed value are not the value
    /// ([`is_packed`](Self::is_packed)).
    pub fn value(&self) -> &[u8] {
        self.shard.slots.blob(self.slot).stored()
    }

    /// Whether the value is compressed, so that a [`found`](Self::found) reference decompresses it,
    /// outside of the lock.
    pub fn is_packed(&self) -> bool {
        self.shard.slots.blob(self.slot).is_packed()
    }

    /// The revision of the value.
    pub fn revision(&self) -> EntryRevision {
        self.shard.slots.times(self.slot).revision()
    }

    /// How fresh the entry is.
    pub fn freshness(&self) -> Freshness {
        self.freshness
    }

    /// Whether it is a negative entry rather than a value.
    pub fn is_negative(&self) -> bool {
        self.shard.slots.blob(self.slot).media_type() == NEGATIVE_NUMBER
    }

    /// How long the refill took that brought it, to about three percent; zero when it came
    /// otherwise.
    pub fn refill_took(&self) -> Duration {
        self.shard.slots.blob(self.slot).refill_time().took()
    }

    /// A reference to the entry that outlives the view.
    pub fn found(&self) -> EntryRef {
        Partition::entry_ref(self.shard, self.slot, self.freshness)
    }
}

/// The value of an entry as it is stored.
fn stored_value(entry: &Entry) -> StoredValue<'_> {
    match &entry.packed {
        Some(packed) => StoredValue { bytes: packed, is_packed: true },
        None => StoredValue { bytes: &entry.value, is_packed: false },
    }
}

fn shard_number(hash: u64) -> usize {
    (hash >> 32) as usize % SHARDS
}

impl Partition {
    pub(super) fn new(
        namespace: NamespaceId,
        budget: Arc<MemoryBudget>,
        tenant: Arc<TenantMemory>,
        quota: Quota,
    ) -> Self {
        let account = Account::within(&tenant.account);
        let cell = |_| Cell { shard: RwLock::default(), soonest: AtomicU64::new(u64::MAX) };
        Self {
            namespace,
            metadata: Arc::new(MetadataTable::new(&account)),
            budget,
            tenant,
            hashing: RandomState::new(),
            cells: (0..SHARDS).map(cell).collect(),
            account,
            evicted: AtomicU64::new(0),
            expired: AtomicU64::new(0),
            read_sample: ReadSample::default(),
            heat_sample: HeatSample::default(),
            recording: TrafficRecording::default(),
            quota: HeldQuota::new(quota),
            next_to_evict: AtomicUsize::new(0),
            next_to_tidy: AtomicUsize::new(0),
        }
    }

    /// The namespace it was opened for.
    pub fn namespace(&self) -> NamespaceId {
        self.namespace
    }

    /// SipHash with a secret of this partition, so that nobody can craft keys that collide.
    fn hash(&self, key: &str) -> u64 {
        self.hashing.hash_one(key)
    }

    // A panic while a shard is locked cannot leave it half-changed in a way that matters: the worst
    // is an entry that is no longer found, which a cache may lose at any time.
    pub(super) fn read(&self, number: usize) -> RwLockReadGuard<'_, Shard> {
        self.cells[number].shard.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes a shard, and counts its memory before and after.
    fn change<T>(&self, number: usize, change: impl FnOnce(&mut Shard) -> T) -> T {
        let mut shard: RwLockWriteGuard<'_, Shard> =
            self.cells[number].shard.write().unwrap_or_else(PoisonError::into_inner);
        let (memory, entries) = (shard.memory(), shard.entries());
        let result = change(&mut shard);
        let (memory_now, entries_now) = (shard.memory(), shard.entries());
        let departed = shard.departed();
        drop(shard);
        drop(departed);
        self.account.charge(memory_now.wrapping_sub(memory), entries_now.wrapping_sub(entries));
        result
    }

    /// The memory of its tenant.
    pub fn tenant(&self) -> &Arc<TenantMemory> {
        &self.tenant
    }

    /// Evicts entries until every quota is kept.
    fn enforce(&self) {
        while self.quota.is_broken(&self.account) && self.evict() {}
        (0..MAX_SHRINK).all(|_| self.quota.is_exceeded(&self.account) && self.evict());
        self.quota.note_shrunk(&self.account);
        self.tenant.keep_to_quota();
        self.budget.enforce(self);
    }

    fn expect_end(&self, number: usize, ends_at: u64) {
        self.cells[number].soonest.fetch_min(ends_at, Ordering::Relaxed);
    }

    pub(super) fn found(shard: &Shard, slot: u32, now: Timestamp) -> Option<EntryRef> {
        let freshness = shard.freshness(slot, now);
        (freshness != Freshness::Ended).then(|| Self::entry_ref(shard, slot, freshness))
    }

    #[inline]
    fn entry_ref(shard: &Shard, slot: u32, freshness: Freshness) -> EntryRef {
        let (blob, metadata) = (shard.slots.blob(slot).clone(), shard.metadata(slot).cloned());
        EntryRef::new(blob, shard.slots.times(slot), metadata, freshness)
    }

    /// Looks an entry up, which counts as a request for it. Expired entries are not found. A hit
    /// takes a shared lock, copies nothing and moves nothing.
    pub fn get(&self, key: &str, now: Timestamp) -> Option<EntryRef> {
        let hash = self.hash(key);
        self.read_sample.note(hash, now);
        let shard = self.read(shard_number(hash));
        let found = shard.find(hash as u32, key).and_then(|slot| {
            let found = Self::found(&shard, slot, now);
            if found.is_some() {
                shard.slots.touch(slot);
            }
            found
        });
        drop(shard);
        let hit = found.as_ref().is_some_and(|found| found.freshness().may_be_served());
        self.note_read(hash, key, hit, now);
        found
    }

    /// Notes a read by its key. What [`visit`](Self::visit) does not serve is noted later.
    fn note_read(&self, hash: u64, key: &str, hit: bool, now: Timestamp) {
        self.heat_sample.note(hash, key, hit, now);
        self.recording.note(hash, key, now);
    }

    /// Begins to record all reads; false if they are being recorded. They are taken with
    /// [`take_recorded`](Self::take_recorded) until [`end_recording`](Self::end_recording).
    pub fn begin_recording(&self) -> bool {
        self.recording.begin()
    }

    /// Takes the reads that were recorded since they were last taken.
    pub fn take_recorded(&self) -> RecordedTraffic {
        self.recording.take()
    }

    /// Ends recording, and forgets what was not taken.
    pub fn end_recording(&self) {
        self.recording.end();
    }

    /// Notes that a read found nothing to serve, if [`visit`](Self::visit) was the only look-up.
    pub fn note_miss(&self, key: &str, now: Timestamp) {
        self.note_read(self.hash(key), key, false, now);
    }

    /// Whether reads are counted by key and sampled; they are, unless a measurement turns it off.
    pub fn track_heat(&self, tracks: bool) {
        self.heat_sample.set_tracking(tracks);
        self.read_sample.set_tracking(tracks);
    }

    /// The keys that are read most, at most `most`.
    pub fn hottest(&self, most: usize, now: Timestamp) -> HotKeys {
        self.heat_sample.hottest(most, now)
    }

    /// Looks an entry up as [`get`](Self::get) does, and passes a view of it to `visit`. The shared
    /// lock is held meanwhile, so `visit` must be brief.
    pub fn visit<T>(
        &self,
        key: &str,
        now: Timestamp,
        visit: impl FnOnce(EntryView<'_>) -> T,
    ) -> Option<T> {
        let hash = self.hash(key);
        self.read_sample.note(hash, now);
        let shard = self.read(shard_number(hash));
        let slot = shard.find(hash as u32, key)?;
        let freshness = shard.freshness(slot, now);
        if freshness == Freshness::Ended {
            return None;
        }
        shard.slots.touch(slot);
        let view = EntryView { shard: &shard, slot, freshness };
        // What this look-up does not serve is looked up again, and counted there.
        let hit = freshness.may_be_served() && !view.is_packed();
        let visited = visit(view);
        drop(shard);
        if hit {
            self.note_read(hash, key, true, now);
        }
        Some(visited)
    }

    /// Looks an entry up without counting as a request for it.
    pub fn peek(&self, key: &str, now: Timestamp) -> Option<EntryRef> {
        let hash = self.hash(key);
        let shard = self.read(shard_number(hash));
        Self::found(&shard, shard.find(hash as u32, key)?, now)
    }

    /// An entry as a listing shows it, without counting as a request for it.
    pub fn show(&self, key: &str, now: Timestamp) -> Option<ListedEntry> {
        let hash = self.hash(key);
        let shard = self.read(shard_number(hash));
        let slot = shard.find(hash as u32, key)?;
        Self::found(&shard, slot, now).map(|found| ListedEntry { size: shard.size(slot), found })
    }

    fn new_entry(&self, key: &Key, entry: &Entry) -> PreparedEntry {
        self.with_metadata(key, entry, self.metadata.of(entry))
    }

    /// What an entry brings that has an metadata which is there already.
    pub(super) fn with_metadata(
        &self,
        key: &Key,
        entry: &Entry,
        metadata: Option<Held>,
    ) -> PreparedEntry {
        PreparedEntry {
            blob: Blob::new(
                key.as_str(),
                stored_value(entry),
                entry.media_type.number().unwrap_or(u8::MAX),
                RefillTime::of(entry.refill_took),
                || entry.entity_tag(),
            ),
            times: Times::new(entry.stored_at, entry.lifetime.max_age),
            metadata,
        }
    }

    fn too_large(&self, size: u64) -> Result<(), PutError> {
        let limit = self.budget.limit().min(self.quota().cap).min(self.tenant.quota().cap);
        if size > limit { Err(PutError::TooLarge { size, limit }) } else { Ok(()) }
    }

    /// Stores an entry in place of whatever is there, evicting others where needed.
    ///
    /// # Errors
    /// [`PutError`] when the entry can never fit or `condition` does not hold; nothing changes
    /// then.
    pub fn put(
        &self,
        key: &Key,
        entry: &Entry,
        condition: Precondition,
        now: Timestamp,
    ) -> Result<PutOutcome, PutError> {
        self.too_large(memory_of(key.as_str().len(), stored_value(entry).size()))?;
        let new = self.new_entry(key, entry);
        self.too_large(new.memory())?;
        let updated = self.update(key, now, |there| {
            let found = there.map(|there| &there.found);
            condition.check(found).map_err(|_| PutError::ConditionFailed)?;
            Ok((new, there.is_some()))
        })?;
        Ok(PutOutcome { replaced: updated.made, revision: updated.revision })
    }

    /// Atomically stores what `decide` makes of the current value. A negative entry counts as no
    /// value.
    pub(super) fn update<T, E>(
        &self,
        key: &Key,
        now: Timestamp,
        decide: impl FnOnce(Option<&There<'_>>) -> Result<(PreparedEntry, T), E>,
    ) -> Result<Updated<T>, E> {
        let hash = self.hash(key.as_str());
        let number = shard_number(hash);
        let result = self.change(number, |shard| {
            let slot = shard.find(hash as u32, key.as_str());
            let there = slot.and_then(|slot| {
                let found = Self::found(shard, slot, now).filter(|found| !found.is_negative())?;
                Some(There { found, shard, slot })
            });
            let (new, made) = decide(there.as_ref())?;
            let ends_at = match slot {
                Some(slot) => shard.replace(slot, new),
                None => shard.insert(hash as u32, new),
            };
            self.expect_end(number, ends_at);
            Ok(Updated { made, revision: shard.latest_revision() })
        })?;
        self.enforce();
        Ok(result)
    }

    /// The size of an entry of these parts, for values that the store makes itself.
    pub(super) fn made(&self, key: &Key, entry: &Entry) -> PreparedEntry {
        self.new_entry(key, entry)
    }

    /// Removes an entry; returns whether a live one was there.
    pub fn delete(&self, key: &str, now: Timestamp) -> bool {
        // Without a condition the delete cannot fail.
        self.delete_if(key, &Precondition::Always, now).unwrap_or(false)
    }

    /// [`delete`](Self::delete) where a condition holds of the entry that is there.
    ///
    /// # Errors
    /// [`ConditionFailed`]; nothing changes then.
    pub fn delete_if(
        &self,
        key: &str,
        condition: &Precondition,
        now: Timestamp,
    ) -> Result<bool, ConditionFailed> {
        let hash = self.hash(key);
        self.change(shard_number(hash), |shard| {
            let there = shard.find(hash as u32, key);
            let found = there.and_then(|slot| Self::found(shard, slot, now));
            condition.check(found.as_ref())?;
            there.into_iter().for_each(|slot| shard.remove(slot));
            Ok(found.is_some())
        })
    }

    /// Replaces the lifetime of an entry, counted from `now`; value, tags and age stay. Returns the
    /// changed entry, which has ended if the lifetime is zero, or `None` when there is none.
    /// Negative entries keep their own time.
    pub fn set_lifetime(&self, key: &str, lifetime: Lifetime, now: Timestamp) -> Option<EntryRef> {
        self.set_lifetime_if(key, lifetime, &Precondition::Always, now).ok().flatten()
    }

    /// [`set_lifetime`](Self::set_lifetime) where a condition holds of the entry that is there.
    ///
    /// # Errors
    /// [`ConditionFailed`]; nothing changes then.
    pub fn set_lifetime_if(
        &self,
        key: &str,
        lifetime: Lifetime,
        condition: &Precondition,
        now: Timestamp,
    ) -> Result<Option<EntryRef>, ConditionFailed> {
        let hash = self.hash(key);
        let number = shard_number(hash);
        let found = self.change(number, |shard| {
            let there = shard.find(hash as u32, key);
            let found = there.and_then(|slot| Self::found(shard, slot, now));
            condition.check(found.as_ref())?;
            let Some(slot) = there.filter(|_| found.is_some_and(|found| !found.is_negative()))
            else {
                return Ok(None);
            };
            let before = shard.slots.times(slot);
            let times = before.with_max_age(now.since(before.stored_at()) + lifetime.max_age);
            let metadata = match shard.hold_metadata(slot) {
                Some(held) => held.with_lifetime(lifetime),
                None => self.metadata.of_lifetime(lifetime),
            };
            let ends_at = shard.set_lifetime(slot, times, metadata);
            self.expect_end(number, ends_at);
            // A lifetime of zero ends the entry immediately, which is a change as well.
            let freshness = shard.freshness(slot, now);
            Ok(Some(Self::entry_ref(shard, slot, freshness)))
        });
        self.enforce();
        found
    }

    /// Invalidates every entry that carries a tag, in constant time; tidying frees their memory.
    /// Returns whether any entry may have carried it.
    pub fn invalidate_tag(&self, tag: &str) -> bool {
        let known = self.metadata.invalidate(tag);
        if known {
            for number in 0..SHARDS {
                self.change(number, Shard::expect_invalid);
            }
        }
        known
    }

    /// Removes every entry, in constant time; tidying frees their memory. Returns how many there
    /// were.
    pub fn clear(&self) -> u64 {
        let mut entries = 0;
        for cell in &self.cells {
            let mut shard = cell.shard.write().unwrap_or_else(PoisonError::into_inner);
            let emptied = Shard::after(&shard);
            let cleared = std::mem::replace(&mut *shard, emptied);
            cell.soonest.store(u64::MAX, Ordering::Relaxed);
            drop(shard);
            entries += cleared.entries();
            self.account.abandon(cleared.memory(), cleared.entries());
            self.budget.retire(cleared);
        }
        entries
    }

    /// Removes expired and invalidated entries from at most `chunks` chunks, starting where the
    /// last step ended.
    pub(super) fn tidy(&self, chunks: usize, now: Timestamp) -> Tidied {
        let mut all = Tidied::default();
        let first = self.next_to_tidy.load(Ordering::Relaxed);
        for at in 0..SHARDS {
            let number = (first + at) % SHARDS;
            let cell = &self.cells[number];
            if cell.soonest.load(Ordering::Relaxed) <= now.as_millis() {
                let ended = self.change(number, |shard| {
                    let (tidied, next) = shard.remove_ended(chunks - all.chunks, now);
                    // Under the shard's lock, so no new entry's end is lost.
                    cell.soonest.store(next, Ordering::Relaxed);
                    tidied
                });
                self.expired.fetch_add(ended.freed, Ordering::Relaxed);
                all.add(ended);
            }
            if all.chunks < chunks && self.read(number).awaits_invalid() {
                let invalid =
                    self.change(number, |shard| shard.remove_invalid(chunks - all.chunks));
                all.add(invalid);
            }
            if all.chunks >= chunks {
                // The next step begins after this shard.
                self.next_to_tidy.store(number + 1, Ordering::Relaxed);
                all.more = true;
                return all;
            }
        }
        // Its quota may have been lowered.
        while self.quota.is_exceeded(&self.account) {
            if all.chunks >= chunks {
                all.more = true;
                break;
            }
            let above = |_: &usize| self.quota.is_exceeded(&self.account) && self.evict();
            let evicted = (0..CHUNK).take_while(above).count();
            all.freed += evicted as u64;
            all.chunks += 1;
            if evicted < CHUNK {
                break;
            }
        }
        self.quota.note_shrunk(&self.account);
        all
    }

    /// What it holds.
    pub fn usage(&self) -> Usage {
        Usage { entries: self.account.entries(), bytes: self.account.bytes() }
    }

    /// How many entries were evicted.
    pub fn evicted(&self) -> u64 {
        self.evicted.load(Ordering::Relaxed)
    }

    /// Takes the sampled reads since the last call, and sets the threshold below which keys are
    /// sampled from now on: 0 for none, [`WHOLE`](super::WHOLE) for all.
    pub fn take_reads(&self, threshold: u32) -> Vec<SampledRead> {
        self.read_sample.take(threshold)
    }

    /// Takes the sampled reads for the memory curve since the last call, and sets which keys are
    /// sampled from now on: those below a threshold, but for those that
    /// [`known_keys`](Self::known_keys) returned.
    pub fn take_reuse(&self, threshold: u32, known: &[KnownKey]) -> ReuseSample {
        self.read_sample.take_reuse(threshold, known.iter().map(|key| key.hash))
    }

    /// The keys whose share of the reads is known well.
    pub fn known_keys(&self) -> Vec<KnownKey> {
        self.heat_sample.known()
    }

    /// How many entries expired and were freed.
    pub fn expired(&self) -> u64 {
        self.expired.load(Ordering::Relaxed)
    }

    /// What it is guaranteed and may never exceed.
    pub fn quota(&self) -> Quota {
        self.quota.get()
    }

    /// Sets its quota. Above it, the partition does not grow, and shrinks with writes and tidying.
    pub fn set_quota(&self, quota: Quota) {
        self.quota.set(quota, &self.account);
    }
}

impl Drop for Partition {
    fn drop(&mut self) {
        self.clear();
    }
}

impl MemoryUser for Partition {
    fn used(&self) -> u64 {
        self.account.bytes()
    }

    fn reserve(&self) -> u64 {
        self.quota().reserve
    }

    /// Evicts the next entry; returns whether there was one.
    fn evict(&self) -> bool {
        for _ in 0..SHARDS {
            let number = self.next_to_evict.fetch_add(1, Ordering::Relaxed) % SHARDS;
            if self.change(number, Shard::evict) {
                self.evicted.fetch_add(1, Ordering::Relaxed);
                self.budget.evicted.fetch_add(1, Ordering::Relaxed);
                return true;
            }
        }
        false
    }
}
