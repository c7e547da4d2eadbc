//! Storing, changing, deleting, listing and clearing entries.

use std::time::Duration;

use verax_core::entry::{Entry, NEGATIVE_TYPE};
use verax_core::lifetime::CacheControl;
use verax_core::store::{
    EntryFilter, EntryOrder, ListedEntry, Listing, Position, PutError, Sample,
};
use verax_core::{EntryRef, Key, Partition, Precondition, Timestamp};

use super::change::Attempt;
use super::put_request::PutRequest;
use super::waiter::Refilled;
use super::waiter::WaitOutcome;
use super::written::Stored;
use crate::engine::Namespace;
use crate::error::{EngineError, InvalidInput};
use crate::events::{ChangeKind, ChangeScope};
use crate::handle::{Clearer, Deleter, Reader, Writer};

/// The maximum number of entries on one page of a listing.
pub const MAX_PAGE_ENTRIES: usize = 1_000;

impl Namespace {
    /// The entry a request creates at `now`.
    ///
    /// # Errors
    /// [`EngineError::ValueTooLarge`], or a negative result that has a value.
    pub(super) fn entry_of(
        &self,
        request: PutRequest,
        now: Timestamp,
    ) -> Result<Entry, EngineError> {
        let (size, limit) = (request.value.len() as u64, self.max_value_bytes());
        if size > limit {
            let namespace = self.path();
            return Err(EngineError::ValueTooLarge { size, limit, namespace });
        }
        if request.media_type.as_str() == NEGATIVE_TYPE {
            if size > 0 {
                return Err(InvalidInput::NegativeValue { media_type: NEGATIVE_TYPE }.into());
            }
            let usual = self.binding().policy.negative_max_age;
            let usual = if usual.is_zero() { self.lifetime().max_age } else { usual };
            let max_age = request.cache_control.max_age.unwrap_or(usual);
            return Ok(Entry::negative(max_age, now).with_tags(request.tags));
        }
        self.check_content(&request.value)?;
        let lifetime = self.lifetime_of(&request.cache_control);
        let entry = Entry::new(request.value, request.media_type, lifetime, now);
        Ok(entry.with_tags(request.tags).packed_above(self.compress_above()))
    }
}

impl Namespace {
    /// Stores an entry; an active refill of the key will not overwrite it.
    ///
    /// # Errors
    /// [`EngineError`]: the condition does not hold or the entry does not fit; nothing changed.
    pub(super) fn put_entry(
        &self,
        key: &Key,
        entry: Entry,
        condition: Precondition,
    ) -> Result<Stored, EngineError> {
        let put = |partition: &Partition, now| {
            let put = partition.put(key, &entry, condition, now).map_err(refused)?;
            let mut entry = entry.clone();
            entry.revision = Some(put.revision);
            Ok(Attempt::Changed(Stored { entry, replaced: put.replaced }))
        };
        // Callers waiting for a refill receive this value, which is newer.
        self.change(key, ChangeKind::Put, put, |stored| {
            let (stored, entry, origin_took) = (true, stored.entry.clone(), Duration::ZERO);
            WaitOutcome::Refilled(Refilled { entry, stored, origin_took })
        })
    }

    /// Deletes an entry if its condition holds; an active refill of the key will not be stored.
    /// Returns whether the entry existed.
    ///
    /// # Errors
    /// [`EngineError::ConditionFailed`]; nothing was changed.
    pub(super) fn delete_entry(
        &self,
        key: &Key,
        condition: &Precondition,
    ) -> Result<bool, EngineError> {
        let delete = |partition: &Partition, now| {
            let deleted = partition.delete_if(key.as_str(), condition, now);
            deleted.map(Attempt::Changed).map_err(|_| EngineError::ConditionFailed)
        };
        self.change(key, ChangeKind::Delete, delete, |_| WaitOutcome::AskAgain)
    }

    /// Removes every entry and voids all refills; returns the number of entries removed.
    pub(crate) fn empty(&self) -> u64 {
        self.invalidate(ChangeScope::All, Partition::clear)
    }

    /// Counts the entries that `filter` includes. Others get their turn meanwhile, so entries that
    /// come or go during the count may or may not be included.
    async fn count(&self, filter: &EntryFilter<'_>) -> Counted {
        let mut counted = Counted::default();
        let mut from = Some(Position::default());
        while let Some(position) = from {
            let step = self.partition().count(filter, position, self.engine().now());
            counted.entries += step.entries;
            counted.bytes += step.bytes;
            from = step.next;
            tokio::task::yield_now().await;
        }
        counted
    }
}

/// What a count found.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counted {
    /// How many entries.
    pub entries: u64,
    /// The memory that they take beyond bookkeeping, in bytes.
    pub bytes: u64,
}

fn check_page(most: usize) -> Result<(), EngineError> {
    match (1..=MAX_PAGE_ENTRIES).contains(&most) {
        true => Ok(()),
        false => Err(InvalidInput::Page { entries: most, max: MAX_PAGE_ENTRIES }.into()),
    }
}

fn refused(error: PutError) -> EngineError {
    match error {
        PutError::ConditionFailed => EngineError::ConditionFailed,
        PutError::TooLarge { .. } => EngineError::DoesNotFit(error),
    }
}

impl Writer {
    /// Sets an entry's lifetime, counted from now; parts absent from `cache_control` come from the
    /// namespace's policy. Returns the changed entry, or `None` if there is none.
    ///
    /// # Errors
    /// [`EngineError::ConditionFailed`]; nothing was changed.
    pub fn set_lifetime(
        &self,
        key: &Key,
        cache_control: CacheControl,
        condition: &Precondition,
    ) -> Result<Option<EntryRef>, EngineError> {
        let lifetime = self.lifetime_of(&cache_control);
        let set = |partition: &Partition, now| {
            let found = partition.set_lifetime_if(key.as_str(), lifetime, condition, now);
            let found = found.map_err(|_| EngineError::ConditionFailed)?;
            Ok(match found {
                // Otherwise a near copy would keep its old lifetime.
                Some(found) => Attempt::Changed(Some(found)),
                None => Attempt::Unchanged(None),
            })
        };
        self.change(key, ChangeKind::Lifetime, set, |_| WaitOutcome::AskAgain)
    }
}

impl Deleter {
    /// Invalidates every entry with a tag and voids the namespace's refills, whose values may have
    /// the tag. Returns whether any entry may have had it.
    pub fn invalidate_tag(&self, tag: &str) -> bool {
        self.invalidate(ChangeScope::Tag(tag), |partition| partition.invalidate_tag(tag))
    }

    /// Counts the entries that [`invalidate_tag`](Self::invalidate_tag) would remove.
    pub async fn count_tag(&self, tag: &str) -> Counted {
        self.count(&EntryFilter { tag: Some(tag), ..EntryFilter::default() }).await
    }
}

impl Reader {
    /// Lists the entries that `filter` includes, starting at the cursor of the previous page.
    ///
    /// # Errors
    /// [`EngineError::Invalid`]: a page of no or too many entries.
    pub fn list(
        &self,
        filter: &EntryFilter<'_>,
        from: Position,
        most: usize,
        now: Timestamp,
    ) -> Result<Listing, EngineError> {
        check_page(most)?;
        Ok(self.partition().list(filter, from, most, now))
    }

    /// The first entries in an order, among those that `filter` includes, of a bounded sample.
    ///
    /// # Errors
    /// [`EngineError::Invalid`]: no or too many entries.
    pub fn sample(
        &self,
        filter: &EntryFilter<'_>,
        order: EntryOrder,
        most: usize,
        now: Timestamp,
    ) -> Result<Sample, EngineError> {
        check_page(most)?;
        Ok(self.partition().sample(filter, order, most, now))
    }

    /// Peeks at one entry, as a listing shows it, without counting a request; `None` if there is
    /// none.
    pub fn show(&self, key: &Key, now: Timestamp) -> Option<ListedEntry> {
        self.partition().show(key.as_str(), now)
    }
}

impl Clearer {
    /// Removes every entry and voids all refills; returns the number of entries removed.
    pub fn clear(&self) -> u64 {
        self.empty()
    }

    /// Counts the entries whose keys start with `prefix`; all of them if it is empty.
    pub async fn count_prefix(&self, prefix: &str) -> Counted {
        self.count(&EntryFilter::prefix(prefix)).await
    }

    /// Removes the entries whose keys start with `prefix` and voids the refills of such keys;
    /// returns the number of entries removed.
    pub async fn clear_prefix(&self, prefix: &str) -> u64 {
        self.void_prefix(prefix);
        let filter = EntryFilter::prefix(prefix);
        let (mut entries, mut from) = (0, Some(Position::default()));
        while let Some(position) = from {
            let now = self.engine().now();
            let listing = self.partition().list(&filter, position, MAX_PAGE_ENTRIES, now);
            for listed in &listing.entries {
                // Keys in the store were validated when they were stored.
                let Ok(key) = Key::new(listed.found.key()) else { continue };
                let delete = |partition: &Partition, now| {
                    let deleted = partition.delete(key.as_str(), now);
                    Ok::<_, EngineError>(Attempt::Changed(deleted))
                };
                let deleted =
                    self.change(&key, ChangeKind::Invalidate, delete, |_| WaitOutcome::AskAgain);
                entries += u64::from(deleted.unwrap_or(false));
            }
            from = listing.next;
            // A large namespace must not block others.
            tokio::task::yield_now().await;
        }
        entries
    }
}
