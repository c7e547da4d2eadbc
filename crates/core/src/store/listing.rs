//! One page of a namespace's entries, in the order of their keys.

use std::collections::BTreeMap;

use crate::entry::Entry;
use crate::lifetime::Freshness;
use crate::time::Timestamp;

/// An entry as a listing shows it.
#[derive(Debug, Clone)]
pub struct Listed {
    /// Its key.
    pub key: Box<str>,
    /// The entry; its bytes are shared, not copied.
    pub entry: Entry,
    /// The memory it takes, in bytes, with bookkeeping.
    pub size: u64,
    /// What it is good for.
    pub freshness: Freshness,
}

/// A page of a listing.
#[derive(Debug, Clone, Default)]
pub struct Listing {
    /// The entries, by key.
    pub entries: Vec<Listed>,
    /// Whether more follow the last one.
    pub more: bool,
}

/// Collects the smallest keys it is shown, one more than a page holds.
pub(super) struct Page {
    most: usize,
    smallest: BTreeMap<Box<str>, (Entry, u64)>,
}

impl Page {
    pub(super) fn new(most: usize) -> Self {
        Self { most, smallest: BTreeMap::new() }
    }

    /// Whether a key is small enough to matter.
    pub(super) fn admits(&self, key: &str) -> bool {
        self.smallest.len() <= self.most
            || self.smallest.last_key_value().is_some_and(|(last, _)| key < &**last)
    }

    pub(super) fn add(&mut self, key: &str, entry: &Entry, size: u64) {
        self.smallest.insert(key.into(), (entry.clone(), size));
        if self.smallest.len() > self.most + 1 {
            self.smallest.pop_last();
        }
    }

    pub(super) fn finish(mut self, now: Timestamp) -> Listing {
        let more = self.smallest.len() > self.most;
        if more {
            self.smallest.pop_last();
        }
        let listed = |(key, (entry, size)): (Box<str>, (Entry, u64))| {
            let freshness = entry.freshness(now);
            Listed { key, entry, size, freshness }
        };
        Listing { entries: self.smallest.into_iter().map(listed).collect(), more }
    }
}
