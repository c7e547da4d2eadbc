//! Which entry a shard evicts.
//!
//! New entries enter a small window, in order of arrival. At its end, those that were requested
//! meanwhile move to the main part; the others are evicted, and a fingerprint of their key stays
//! among the ghosts for a while: a key that returns while its ghost is there goes straight to the
//! main part. A hand sweeps the main part: entries requested since its last pass cool down and
//! stay, the first cold entry is evicted.
//!
//! That is S3-FIFO (Yang et al., SOSP 2023) with four changes, each kept because the seeded traces
//! of the benchmarks gained by it: the window has a thirty-second of the memory in place of a
//! tenth; one request in the window is enough; until the first eviction, new entries go to the main
//! part; and values of more than twice the mean size need two requests and cool twice as fast. The
//! main part needs no queue, since the hand moves over the slots by number: a hit moves nothing,
//! and entries need no links.

use std::collections::VecDeque;

use super::slots::Slots;

/// The part of a shard's memory that is for new entries.
const WINDOW_PART: u64 = 32;

/// Fingerprints that share a place among the ghosts.
const WAYS: usize = 4;

/// The most slots that the hand passes for one eviction.
const MAX_SWEEP: u64 = 4_096;

/// Fingerprints of keys evicted from the window. Each place holds the last few that hash to it.
#[derive(Debug, Default)]
struct Ghosts {
    places: Vec<[u16; WAYS]>,
}

impl Ghosts {
    /// Makes room for about as many ghosts as there are entries.
    fn fit(&mut self, entries: usize) {
        let places = (entries / WAYS).next_power_of_two().max(4);
        // Resizing forgets all ghosts, so the table shrinks only when it is worth it.
        if self.places.len() < places || self.places.len() > 4 * places {
            self.places = vec![[0; WAYS]; places];
        }
    }

    fn place(&self, hash: u32) -> (usize, u16) {
        let mixed = hash.wrapping_mul(0x9e37_79b9);
        ((mixed >> 8) as usize & (self.places.len() - 1), (hash >> 16) as u16 | 1)
    }

    fn add(&mut self, hash: u32, entries: usize) {
        self.fit(entries);
        let (at, fingerprint) = self.place(hash);
        let place = &mut self.places[at];
        place.copy_within(..WAYS - 1, 1);
        place[0] = fingerprint;
    }

    /// Removes a ghost; returns whether it was there.
    fn take(&mut self, hash: u32) -> bool {
        if self.places.is_empty() {
            return false;
        }
        let (at, fingerprint) = self.place(hash);
        match self.places[at].iter_mut().find(|there| **there == fingerprint) {
            Some(there) => {
                *there = 0;
                true
            }
            None => false,
        }
    }
}

/// The order of eviction of one shard.
#[derive(Debug, Default)]
pub(super) struct EvictionPolicy {
    /// The slots of the window, oldest first, including some that have left it.
    window: VecDeque<u32>,
    window_entries: usize,
    window_bytes: u64,
    ghosts: Ghosts,
    hand: u32,
    /// Whether an entry was ever evicted.
    pressed: bool,
}

impl EvictionPolicy {
    /// A slot was filled with `bytes`.
    pub(super) fn add(&mut self, slots: &mut Slots, slot: u32, bytes: u64) {
        if !self.pressed || self.ghosts.take(slots.hash(slot)) {
            return;
        }
        slots.set_in_window(slot, true);
        if self.window.len() > 2 * self.window_entries + 64 {
            self.forget_stale(slots);
        }
        self.window.push_back(slot);
        self.window_entries += 1;
        self.window_bytes += bytes;
    }

    /// A filled slot's entry takes other bytes than before.
    pub(super) fn resize(&mut self, slots: &Slots, slot: u32, before: u64, after: u64) {
        if slots.in_window(slot) {
            self.window_bytes = self.window_bytes - before + after;
        }
    }

    /// A slot of `bytes` is about to be emptied.
    pub(super) fn remove(&mut self, slots: &Slots, slot: u32, bytes: u64) {
        if slots.in_window(slot) {
            self.window_entries -= 1;
            self.window_bytes -= bytes;
        }
    }

    /// Drops slots from the queue that have left the window otherwise, or are in it twice.
    fn forget_stale(&mut self, slots: &mut Slots) {
        self.window.retain(|slot| {
            slots.is_filled(*slot) && slots.in_window(*slot) && slots.see(*slot, true)
        });
        for slot in &self.window {
            slots.see(*slot, false);
        }
    }

    /// The entry to evict. `bytes` is the size of all entries, and `size` returns that of one.
    /// `None` without entries.
    pub(super) fn victim(
        &mut self,
        slots: &mut Slots,
        bytes: u64,
        size: impl Fn(&Slots, u32) -> u64,
    ) -> Option<u32> {
        let entries = slots.filled();
        if entries == 0 {
            return None;
        }
        self.pressed = true;
        let large = 2 * bytes / entries as u64;
        while self.window_bytes > bytes / WINDOW_PART {
            let Some(slot) = self.window.pop_front() else { break };
            if !slots.is_filled(slot) || !slots.in_window(slot) {
                continue;
            }
            let taken = size(slots, slot);
            let enough = if taken > large { 2 } else { 1 };
            if slots.heat(slot) < enough {
                self.ghosts.add(slots.hash(slot), entries);
                return Some(slot);
            }
            slots.set_in_window(slot, false);
            slots.cool(slot, u8::MAX);
            self.window_entries -= 1;
            self.window_bytes -= taken;
        }
        self.under_the_hand(slots, large, size)
    }

    /// The first cold entry of the main part that the hand meets, or the coldest of many warm ones;
    /// any entry when there is no main part.
    fn under_the_hand(
        &mut self,
        slots: &mut Slots,
        large: u64,
        size: impl Fn(&Slots, u32) -> u64,
    ) -> Option<u32> {
        let mut coldest: Option<(u8, u32)> = None;
        // Three rounds cool everything, and the fourth finds it; without a main part nothing is.
        for _ in 0..(4 * u64::from(slots.end())).min(MAX_SWEEP) {
            let slot = if self.hand < slots.end() { self.hand } else { 0 };
            self.hand = slot + 1;
            if !slots.is_filled(slot) || slots.in_window(slot) {
                continue;
            }
            let heat = slots.heat(slot);
            if heat == 0 {
                return Some(slot);
            }
            if coldest.is_none_or(|(least, _)| heat < least) {
                coldest = Some((heat, slot));
            }
            let by = if size(slots, slot) > large { 2 } else { 1 };
            slots.cool(slot, by);
        }
        let coldest = coldest.map(|(_, slot)| slot);
        coldest.or_else(|| (0..slots.end()).find(|slot| slots.is_filled(*slot)))
    }

    /// The memory of the window's queue and the ghosts.
    pub(super) fn memory(&self) -> u64 {
        (self.window.capacity() * size_of::<u32>()
            + self.ghosts.places.capacity() * size_of::<[u16; WAYS]>()) as u64
    }
}
