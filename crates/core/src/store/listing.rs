//! One page of a namespace's entries.

use std::fmt;
use std::str::FromStr;

use super::found::EntryRef;
use super::shard::SHARDS;

/// Where a listing continues: a slot, not a key, so that it stays valid whatever comes and goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Position {
    shard: u16,
    slot: u32,
}

/// A text that is not a [`Position`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the cursor does not come from a page")]
pub struct InvalidPosition;

impl Position {
    pub(super) fn new(shard: usize, slot: u32) -> Self {
        Self { shard: shard as u16, slot }
    }

    pub(super) fn parts(self) -> (usize, u32) {
        (self.shard.into(), self.slot)
    }
}

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:x}-{:x}", self.shard, self.slot)
    }
}

impl FromStr for Position {
    type Err = InvalidPosition;

    fn from_str(text: &str) -> Result<Self, InvalidPosition> {
        let (shard, slot) = text.split_once('-').ok_or(InvalidPosition)?;
        let shard = u16::from_str_radix(shard, 16).map_err(|_| InvalidPosition)?;
        let slot = u32::from_str_radix(slot, 16).map_err(|_| InvalidPosition)?;
        if usize::from(shard) < SHARDS { Ok(Self { shard, slot }) } else { Err(InvalidPosition) }
    }
}

/// An entry of a listing.
#[derive(Debug, Clone)]
pub struct ListedEntry {
    /// The entry.
    pub found: EntryRef,
    /// The memory it takes beyond its slot, in bytes.
    pub size: u64,
}

/// A page of a listing.
#[derive(Debug, Clone, Default)]
pub struct Listing {
    /// The entries, by key.
    pub entries: Vec<ListedEntry>,
    /// Where to continue; `None` at the end.
    pub next: Option<Position>,
}

impl Listing {
    pub(super) fn sort(&mut self) {
        self.entries.sort_unstable_by(|a, b| a.found.key().cmp(b.found.key()));
    }
}
