//! Which entry goes when a shard must give room.
//!
//! Newcomers stand in a small window, in the order in which they came. Those that were asked for
//! meanwhile move to the main part when they reach its end; the others go, and a fingerprint of
//! their key stays among the ghosts for a while: a key that comes back while its ghost is there
//! goes straight to the main part. Over that a hand moves round and round: what was asked for since
//! it last came by cools and stays, the first cold entry goes.
//!
//! That is S3-FIFO (Yang et al., SOSP 2023) with four changes, each kept because the seeded traces
//! of the benchmarks gained by it: the window has a thirty-second of the memory in place of a
//! tenth; one request in the window is enough; as long as nothing ever had to go, newcomers fill
//! the main part; and values of more than twice the mean size must be asked for twice and cool
//! twice as fast. The main part needs no queue, since the hand moves over the slots by number: a
//! hit moves nothing and an entry pays for no links.

use std::collections::VecDeque;

use super::slots::Slots;

/// The part of a shard's memory that is for newcomers.
const WINDOW_PART: u64 = 32;

/// Fingerprints that share a place among the ghosts.
const WAYS: usize = 4;

/// The most slots that the hand passes for one eviction.
const MAX_SWEEP: u64 = 4_096;

/// Fingerprints of keys that went from the window. Each place holds the last few that fell there.
#[derive(Debug, Default)]
struct Ghosts {
    places: Vec<[u16; WAYS]>,
}

impl Ghosts {
    /// Makes room for about as many ghosts as there are entries.
    fn fit(&mut self, entries: usize) {
        let places = (entries / WAYS).next_power_of_two().max(4);
        // Doubling forgets; halving is left until it is worth it.
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

    /// Takes a ghost out; returns whether it was there.
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
    /// Slots of the window, oldest first; also some that are not in it any more.
    window: VecDeque<u32>,
    window_entries: usize,
    window_bytes: u64,
    ghosts: Ghosts,
    hand: u32,
    /// Whether an entry ever had to go.
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

    /// Drops slots from the queue that left the window some other way, or stand in it twice.
    fn forget_stale(&mut self, slots: &mut Slots) {
        self.window.retain(|slot| {
            slots.is_filled(*slot) && slots.in_window(*slot) && slots.see(*slot, true)
        });
        for slot in &self.window {
            slots.see(*slot, false);
        }
    }

    /// The entry that must go, for the caller to remove. `bytes` is what all entries take, and
    /// `size` tells what one takes. `None` without entries.
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

    /// The first cold entry of the main part that the hand meets, or the coldest when it has met
    /// many that are all warm; any entry when there is no main part.
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
