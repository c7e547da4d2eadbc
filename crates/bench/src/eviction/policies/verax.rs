//! The store itself, with all its sharding and bookkeeping.

use std::sync::Arc;
use std::time::Duration;

use verax_core::{
    Entry, Key, Lifetime, NamespaceId, Partition, Precondition, Quota, Store, Timestamp,
};

use super::policy::Policy;

const NOW: Timestamp = Timestamp::from_millis(0);

/// Sizes of one unit stand for values of this many bytes.
const UNIT: u32 = 100;

fn put(partition: &Partition, key: u64, bytes: u32) {
    let lifetime = Lifetime::of(Duration::from_secs(3_600));
    let entry = Entry::new(vec![0; bytes as usize], "text/plain", lifetime, NOW);
    if let Ok(key) = Key::new(format!("k{key:08}")) {
        // A value larger than the whole store is refused, as it is by the others.
        let _ = partition.put(&key, &entry, Precondition::Always, NOW);
    }
}

/// The store, with as much memory as `entries` values take in it.
#[derive(Debug)]
pub(crate) struct Verax {
    partition: Arc<Partition>,
    unit: u32,
    _store: Store,
}

impl Verax {
    /// Room for `entries` values of `bytes` in all, in the unit of the trace.
    pub(crate) fn new(capacity: u64, entries: usize) -> Self {
        let even = capacity == entries as u64;
        let (unit, mean) =
            if even { (UNIT, UNIT) } else { (1, (capacity / entries as u64) as u32) };
        // As much memory as that many values take when nothing else is there.
        let filled = Store::new(u64::MAX);
        let partition = filled.open(NamespaceId(1), Quota::default());
        (0..entries as u64).for_each(|key| put(&partition, key, mean));
        let store = Store::new(filled.used());
        Self { partition: store.open(NamespaceId(1), Quota::default()), unit, _store: store }
    }
}

impl Policy for Verax {
    fn request(&mut self, key: u64, size: u32) -> bool {
        let hit = self.partition.get(&format!("k{key:08}"), NOW).is_some();
        if !hit {
            put(&self.partition, key, size * self.unit);
        }
        hit
    }
}
