//! Up to which key a run is complete.

use std::collections::BTreeSet;

/// The keys of a run that are finished, by number. A few are refilled concurrently, so they finish
/// out of order; what matters for resuming is the first that is not finished.
#[derive(Debug, Clone, Default)]
pub struct FinishedKeys {
    all_before: usize,
    beyond: BTreeSet<usize>,
}

impl FinishedKeys {
    /// A run of which all keys before a number are finished.
    pub fn resumed(all_before: usize) -> Self {
        Self { all_before, beyond: BTreeSet::new() }
    }

    /// Marks a key as finished. Returns how many keys from the start are.
    pub fn finish(&mut self, number: usize) -> usize {
        if number >= self.all_before {
            self.beyond.insert(number);
        }
        while self.beyond.remove(&self.all_before) {
            self.all_before += 1;
        }
        self.all_before
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_resumed_run_misses_no_key(
            order in Just((0..50_usize).collect::<Vec<_>>()).prop_shuffle(),
            killed in 0_usize..50,
        ) {
            let mut finished = FinishedKeys::default();
            let mut position = 0;
            for (done, key) in order.iter().enumerate().take(killed) {
                position = finished.finish(*key);
                let first_open = (0..50).find(|key| !order[..=done].contains(key));
                prop_assert_eq!(position, first_open.unwrap());
            }
            let mut resumed = FinishedKeys::resumed(position);
            let ended = (position..50).map(|key| resumed.finish(key)).last();
            prop_assert_eq!(ended.unwrap_or(position), 50);
        }
    }
}
