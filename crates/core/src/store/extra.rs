//! What few entries have, kept beside the slots so that all others do not pay for it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use super::memory::allocated;
use crate::entry::{EntityTag, Entry, MediaType, Tag, Tags};
use crate::lifetime::Lifetime;

/// Entity tags of values beyond this size are kept; hashing a smaller value costs less than the
/// memory for its tag.
const TAG_KEPT_FROM: usize = 16 << 10;

/// A tag of a namespace. Entries remember the generation in which they were stored; invalidating
/// the tag begins a new one, in which none of them is valid, however many there are.
#[derive(Debug)]
pub(super) struct TagRecord {
    pub(super) generation: AtomicU32,
}

/// One tag of one entry.
#[derive(Debug, Clone)]
pub(super) struct Tagged {
    record: Arc<TagRecord>,
    generation: u32,
}

impl Tagged {
    pub(super) fn new(record: Arc<TagRecord>) -> Self {
        let generation = record.generation.load(Ordering::Acquire);
        Self { record, generation }
    }

    fn valid(&self) -> bool {
        self.record.generation.load(Ordering::Acquire) == self.generation
    }
}

/// What few entries have. Entries with the same extra share it, unless it has tags.
#[derive(Debug, Clone, Default)]
pub(super) struct Extra {
    pub(super) stale_while_revalidate: Duration,
    pub(super) stale_if_error: Duration,
    pub(super) media_type: Option<MediaType>,
    pub(super) entity_tag: Option<EntityTag>,
    pub(super) tags: Tags,
    tagged: Box<[Tagged]>,
}

impl Extra {
    /// What an entry needs beyond its slot; `None` for most. `tagged` are its tags' records.
    pub(super) fn of(entry: &Entry, tagged: Box<[Tagged]>) -> Option<Self> {
        let Lifetime { stale_while_revalidate, stale_if_error, .. } = entry.lifetime;
        let large = entry.value.len() >= TAG_KEPT_FROM;
        let extra = Self {
            stale_while_revalidate,
            stale_if_error,
            media_type: Some(&entry.media_type).filter(|m| m.number().is_none()).cloned(),
            entity_tag: large.then(|| entry.entity_tag()),
            tags: entry.tags.clone(),
            tagged,
        };
        let plain = stale_while_revalidate.is_zero()
            && stale_if_error.is_zero()
            && extra.media_type.is_none()
            && !large
            && extra.tags.is_empty();
        (!plain).then_some(extra)
    }

    /// The same with the stale parts of another lifetime; `None` when nothing is left.
    pub(super) fn with_lifetime(&self, lifetime: Lifetime) -> Option<Self> {
        let Lifetime { stale_while_revalidate, stale_if_error, .. } = lifetime;
        let extra = Self { stale_while_revalidate, stale_if_error, ..self.clone() };
        let plain = stale_while_revalidate.is_zero()
            && stale_if_error.is_zero()
            && extra.media_type.is_none()
            && extra.entity_tag.is_none()
            && extra.tags.is_empty();
        (!plain).then_some(extra)
    }

    /// Whether no tag was invalidated since.
    pub(super) fn valid(&self) -> bool {
        self.tagged.iter().all(Tagged::valid)
    }

    /// Whether entries may share it.
    pub(super) fn shareable(&self) -> bool {
        self.tagged.is_empty() && self.entity_tag.is_none()
    }

    /// Whether it says the same as another shareable one.
    pub(super) fn same(&self, other: &Self) -> bool {
        self.stale_while_revalidate == other.stale_while_revalidate
            && self.stale_if_error == other.stale_if_error
            && self.media_type == other.media_type
    }

    /// The longest time beyond max-age in which the entry may be served.
    pub(super) fn longest_stale(&self) -> Duration {
        self.stale_while_revalidate.max(self.stale_if_error)
    }

    /// The memory it takes, and its place in the shard's table.
    pub(super) fn memory(&self) -> u64 {
        let place = 2 * size_of::<(u32, Arc<Self>)>() as u64;
        if self.shareable() {
            return place;
        }
        let counters = 2 * size_of::<usize>();
        let names = self.tags.len() * size_of::<Tag>() + counters;
        let mut memory = place + allocated(size_of::<Self>() + counters);
        if !self.tags.is_empty() {
            memory += allocated(names) + allocated(self.tagged.len() * size_of::<Tagged>());
        }
        if let Some(media_type) = &self.media_type {
            memory += allocated(media_type.as_str().len() + counters);
        }
        memory
    }
}
