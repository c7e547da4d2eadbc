//! Looking at a namespace's entries without counting requests for them: pages, samples, counts.
//!
//! Each call visits a bounded number of slots, and releases the lock of a shard between steps.

use std::ops::ControlFlow;

use super::listing::{CountStep, EntryFilter, EntryOrder, ListedEntry, Listing, Position, Sample};
use super::partition::Partition;
use super::shard::{SHARDS, Shard};
use super::slots::CHUNK;
use crate::lifetime::Freshness;
use crate::time::Timestamp;

/// The most slots that one page of a listing or one step of a count visits.
const MAX_PAGE_SLOTS: usize = 1 << 16;

/// The most slots that are visited while a shard is locked.
const LOOK_STEP: usize = 1 << 10;

/// The most slots that a sample visits.
pub const SAMPLE_SLOTS: usize = 1 << 15;

/// The freshness of a filled slot's entry, if the filter includes it and it may still be served.
fn included(
    shard: &Shard,
    slot: u32,
    filter: &EntryFilter<'_>,
    now: Timestamp,
) -> Option<Freshness> {
    if !shard.slots.blob(slot).key().starts_with(filter.prefix) {
        return None;
    }
    if let Some(tag) = filter.tag
        && !shard.metadata(slot).is_some_and(|data| data.tags.iter().any(|own| **own == *tag))
    {
        return None;
    }
    let freshness = shard.freshness(slot, now);
    let in_state = filter.state.is_none_or(|state| state.includes(freshness));
    (freshness != Freshness::Ended && in_state).then_some(freshness)
}

impl Partition {
    /// Visits filled slots from a position on, until `visit` breaks or enough slots were visited.
    /// Returns where to continue: the slot at which it broke, or the next one.
    fn walk(
        &self,
        from: Position,
        mut visit: impl FnMut(&Shard, u32) -> ControlFlow<()>,
    ) -> Option<Position> {
        let (mut number, mut slot) = from.parts();
        let mut looked_at = 0;
        while number < SHARDS && looked_at < MAX_PAGE_SLOTS {
            let shard = self.read(number);
            let first = slot as usize / CHUNK;
            let end = shard.slots.chunks().min(first + LOOK_STEP / CHUNK);
            for chunk in first..end {
                for filled in shard.slots.filled_of(chunk).into_iter().flatten() {
                    if filled >= slot && visit(&shard, filled).is_break() {
                        return Some(Position::new(number, filled));
                    }
                }
            }
            looked_at += end.saturating_sub(first) * CHUNK;
            // Writers get their turn between two steps; slots keep their numbers.
            let through = end >= shard.slots.chunks();
            (number, slot) = if through { (number + 1, 0) } else { (number, (end * CHUNK) as u32) };
        }
        (number < SHARDS).then(|| Position::new(number, slot))
    }

    fn listed(shard: &Shard, slot: u32, now: Timestamp) -> Option<ListedEntry> {
        let found = Self::found(shard, slot, now)?;
        Some(ListedEntry { size: shard.size(slot), found })
    }

    /// A page of the entries that `filter` includes, from a position on, in the order in which they
    /// stand; the page itself is sorted by key. An entry that is present throughout is listed
    /// exactly once over the pages, whatever happens to others meanwhile. A page may hold fewer
    /// than `most` entries although more follow, since it visits a bounded number of slots.
    pub fn list(
        &self,
        filter: &EntryFilter<'_>,
        from: Position,
        most: usize,
        now: Timestamp,
    ) -> Listing {
        let mut listing = Listing::default();
        listing.next = self.walk(from, |shard, slot| {
            if included(shard, slot, filter, now).is_none() {
                return ControlFlow::Continue(());
            }
            if listing.entries.len() == most {
                return ControlFlow::Break(());
            }
            listing.entries.extend(Self::listed(shard, slot, now));
            ControlFlow::Continue(())
        });
        listing.sort();
        listing
    }

    /// A step of a count of the entries that `filter` includes.
    pub fn count(&self, filter: &EntryFilter<'_>, from: Position, now: Timestamp) -> CountStep {
        let mut step = CountStep::default();
        step.next = self.walk(from, |shard, slot| {
            if included(shard, slot, filter, now).is_some() {
                step.entries += 1;
                step.bytes += shard.size(slot);
            }
            ControlFlow::Continue(())
        });
        step
    }

    /// The first `most` entries in an order, among those that `filter` includes, of at most
    /// [`SAMPLE_SLOTS`] slots. In a larger namespace, these are chunks at equal distances in every
    /// shard: entries stand in them in the order in which room was found, so that no age, size or
    /// key is preferred.
    pub fn sample(
        &self,
        filter: &EntryFilter<'_>,
        order: EntryOrder,
        most: usize,
        now: Timestamp,
    ) -> Sample {
        let mut sample = Sample { is_whole: true, ..Sample::default() };
        let mut ranked: Vec<(i64, ListedEntry)> = Vec::new();
        let mut worst = i64::MAX;
        for number in 0..SHARDS {
            let budget = SAMPLE_SLOTS / CHUNK / SHARDS;
            let stride = self.read(number).slots.chunks().div_ceil(budget).max(1);
            sample.is_whole &= stride == 1;
            let mut chunk = 0;
            for _ in 0..budget.div_ceil(LOOK_STEP / CHUNK) {
                let shard = self.read(number);
                for _ in 0..LOOK_STEP / CHUNK {
                    if chunk >= shard.slots.chunks() {
                        break;
                    }
                    for slot in shard.slots.filled_of(chunk).into_iter().flatten() {
                        let is_live = shard.freshness(slot, now) != Freshness::Ended;
                        sample.looked_at += u64::from(is_live);
                        if included(&shard, slot, filter, now).is_none() {
                            continue;
                        }
                        let Some(listed) = Self::listed(&shard, slot, now) else { continue };
                        let rank = order.rank(&listed.found);
                        if rank < worst {
                            ranked.push((rank, listed));
                        }
                    }
                    chunk += stride;
                }
                drop(shard);
                // Only so many are kept that sorting stays rare and memory small.
                if ranked.len() > 2 * most + LOOK_STEP {
                    worst = keep_first(&mut ranked, most);
                }
            }
        }
        keep_first(&mut ranked, most);
        sample.entries = ranked.into_iter().map(|(_, listed)| listed).collect();
        sample
    }
}

/// Sorts by rank, then key, and keeps the first; returns the rank from which on no other is needed.
fn keep_first(ranked: &mut Vec<(i64, ListedEntry)>, most: usize) -> i64 {
    ranked.sort_by(|(a, one), (b, other)| {
        a.cmp(b).then_with(|| one.found.key().cmp(other.found.key()))
    });
    ranked.truncate(most);
    match ranked.last() {
        // Ties go by key, so an equal rank may still come first.
        Some((rank, _)) if ranked.len() == most => rank.saturating_add(1),
        _ => i64::MAX,
    }
}
