//! A hash table that never rehashes all at once.

use hashbrown::HashTable;

/// How many slots of the old table each change moves.
const MOVED: usize = 32;

/// Values by their hashes. When the table is too small, too large or too full of removed values, a
/// new one replaces it, and each change moves a few values over, so that no change takes long.
/// Until the move is complete, look-ups search both tables.
#[derive(Debug)]
pub(super) struct Index<T> {
    table: HashTable<T>,
    /// The old table, as long as it holds anything.
    before: HashTable<T>,
    /// The next slot of the old table to move.
    next: usize,
}

impl<T> Default for Index<T> {
    fn default() -> Self {
        Self { table: HashTable::new(), before: HashTable::new(), next: 0 }
    }
}

impl<T> Index<T> {
    /// The value with this hash that `is` accepts.
    pub(super) fn find(&self, hash: u64, is: impl Fn(&T) -> bool) -> Option<&T> {
        if let Some(value) = self.table.find(hash, &is) {
            return Some(value);
        }
        match self.before.is_empty() {
            true => None,
            false => self.before.find(hash, is),
        }
    }

    /// Adds a value that is not there yet. `hash_of` returns the hash of any value.
    pub(super) fn insert(&mut self, hash: u64, value: T, hash_of: impl Fn(&T) -> u64) {
        self.advance(&hash_of);
        let places = self.table.num_buckets();
        if self.table.len() == self.table.capacity() {
            // With values coming and going, removed ones fill the table; as long as it is not
            // really full, the new table has the same size.
            let truly_full = self.table.len() * 8 >= places * 6;
            let capacity = if truly_full { 2 * places.max(2) / 8 * 7 } else { places / 8 * 7 };
            self.renew(capacity.max(3), &hash_of);
        }
        self.table.insert_unique(hash, value, hash_of);
    }

    /// Removes the value with this hash that `is` accepts.
    pub(super) fn remove(
        &mut self,
        hash: u64,
        is: impl Fn(&T) -> bool,
        hash_of: impl Fn(&T) -> u64,
    ) -> Option<T> {
        let found = match self.table.find_entry(hash, &is) {
            Ok(there) => Ok(there),
            Err(_) => self.before.find_entry(hash, &is),
        };
        let removed = found.ok().map(|there| there.remove().0);
        self.advance(&hash_of);
        // A table that was much larger shrinks.
        if self.before.is_empty() && self.table.capacity() > 8 * self.table.len() + 256 {
            self.renew(2 * self.table.len(), &hash_of);
        }
        removed
    }

    /// Starts a new table with this capacity.
    fn renew(&mut self, capacity: usize, hash_of: &impl Fn(&T) -> u64) {
        // The move is faster than the table fills up, so usually nothing is left of the old one.
        while !self.before.is_empty() {
            self.advance(hash_of);
        }
        self.before = std::mem::replace(&mut self.table, HashTable::with_capacity(capacity));
        self.next = 0;
    }

    /// Moves a few values out of the old table.
    fn advance(&mut self, hash_of: &impl Fn(&T) -> u64) {
        if self.before.is_empty() {
            // It is freed when it is empty.
            if self.before.num_buckets() > 1 {
                self.before = HashTable::new();
            }
            return;
        }
        for _ in 0..MOVED {
            if let Ok(there) = self.before.get_bucket_entry(self.next) {
                let (value, _) = there.remove();
                self.table.insert_unique(hash_of(&value), value, hash_of);
            }
            self.next += 1;
        }
    }

    /// The memory of the tables.
    pub(super) fn memory(&self) -> u64 {
        (self.table.allocation_size() + self.before.allocation_size()) as u64
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    /// Hashes that often collide.
    fn hash_of(slot: &u32) -> u64 {
        u64::from(slot % 1_000).wrapping_mul(0x9e37_79b9_7f4a_7c15)
    }

    /// Hashes that hardly do.
    fn spread(slot: &u32) -> u64 {
        u64::from(*slot).wrapping_mul(0x9e37_79b9_7f4a_7c15)
    }

    proptest! {
        /// The index holds what a plain map would hold, whatever is being moved.
        #[test]
        fn the_index_behaves_like_a_plain_map(
            steps in prop::collection::vec((any::<bool>(), 0..3_000u32, 1..200u32), 1..60)
        ) {
            let (mut index, mut model) = (Index::default(), HashMap::new());
            for (add, from, many) in steps {
                for slot in from..from + many {
                    if add && model.insert(slot, ()).is_none() {
                        index.insert(hash_of(&slot), slot, hash_of);
                    } else if !add && model.remove(&slot).is_some() {
                        let removed = index.remove(hash_of(&slot), |at| *at == slot, hash_of);
                        prop_assert_eq!(removed, Some(slot));
                    }
                }
                for slot in from.saturating_sub(50)..from + 50 {
                    let found = index.find(hash_of(&slot), |at| *at == slot);
                    prop_assert_eq!(found.is_some(), model.contains_key(&slot));
                }
                prop_assert_eq!(index.table.len() + index.before.len(), model.len());
            }
            for slot in model.keys() {
                prop_assert_eq!(index.find(hash_of(slot), |at| at == slot), Some(slot));
            }
        }
    }

    #[test]
    fn a_growing_table_migrates_in_steps_and_frees_the_old_one() {
        let mut index = Index::default();
        let (mut max_left, mut renewed) = (0, 0);
        for slot in 0..100_000u32 {
            let before = index.before.len();
            index.insert(spread(&slot), slot, spread);
            renewed += usize::from(index.before.len() > before);
            let moved = before.saturating_sub(index.before.len());
            assert!(moved <= MOVED, "{moved} were moved in one step");
            max_left = max_left.max(index.before.len());
        }
        assert!(renewed > 10 && max_left > 10_000, "{renewed} times, {max_left} left at most");
        for slot in 0..100_000u32 {
            assert_eq!(index.find(spread(&slot), |at| *at == slot), Some(&slot));
            index.remove(spread(&slot), |at| *at == slot, spread);
        }
        assert!(index.memory() < 4_096, "{} bytes", index.memory());
    }
}
