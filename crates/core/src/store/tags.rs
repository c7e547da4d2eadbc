//! The tags of one namespace.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use super::extra::{TagRecord, Tagged};
use crate::entry::Tag;

/// What a tag takes: its record with counters, its place in the table, and about its name.
pub(super) const TAG_MEMORY: u64 = 160;

/// Every tag that an entry carries, and some that no entry carries any more.
#[derive(Debug, Default)]
pub(super) struct TagTable(Mutex<Tags>);

#[derive(Debug, Default)]
struct Tags {
    records: HashMap<Tag, Arc<TagRecord>>,
    /// How many there were after the last look for unused ones.
    kept: usize,
}

impl TagTable {
    /// The tags for a new entry, and by how many the table has grown.
    pub(super) fn tagged(&self, tags: &[Tag]) -> (Box<[Tagged]>, i64) {
        if tags.is_empty() {
            return (Box::default(), 0);
        }
        let mut table = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let before = table.records.len() as i64;
        // Looking at all of them once for each doubling costs little for each tag.
        if table.records.len() > 2 * table.kept + 64 {
            table.records.retain(|_, record| Arc::strong_count(record) > 1);
            table.kept = table.records.len();
        }
        let tagged = tags.iter().map(|name| {
            let record = table
                .records
                .entry(Arc::clone(name))
                .or_insert_with(|| Arc::new(TagRecord { generation: AtomicU32::new(0) }));
            Tagged::new(Arc::clone(record))
        });
        let tagged = tagged.collect();
        (tagged, table.records.len() as i64 - before)
    }

    /// Ends the validity of every entry that carries a tag; returns whether one may.
    pub(super) fn invalidate(&self, tag: &str) -> bool {
        let table = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(record) = table.records.get(tag) else { return false };
        record.generation.fetch_add(1, Ordering::Release);
        true
    }

    /// Forgets tags that no entry carries, once many may be; returns by how many the table shrank.
    pub(super) fn prune(&self) -> i64 {
        let mut table = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let before = table.records.len();
        if before > 0 {
            table.records.retain(|_, record| Arc::strong_count(record) > 1);
            table.kept = table.records.len();
        }
        (before - table.records.len()) as i64
    }
}
