//! What a look at a namespace's entries asks for and finds: pages, samples, counts.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use super::found::EntryRef;
use super::shard::SHARDS;
use crate::lifetime::Freshness;

/// An entry ends soon when it is fresh for no longer than this.
pub const ENDS_SOON: Duration = Duration::from_secs(60);

/// The state of an entry, as a listing is filtered by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryState {
    /// Fresh, for however long.
    Fresh,
    /// Fresh for no longer than [`ENDS_SOON`].
    EndsSoon,
    /// Past its max-age, but within its stale times.
    Stale,
}

impl EntryState {
    /// Whether an entry with this freshness is in this state.
    pub fn includes(self, freshness: Freshness) -> bool {
        match (self, freshness) {
            (Self::Fresh, Freshness::Fresh(_)) => true,
            (Self::EndsSoon, Freshness::Fresh(left)) => left <= ENDS_SOON,
            (Self::Stale, Freshness::Stale(_) | Freshness::OnlyOnError(_)) => true,
            _ => false,
        }
    }
}

/// A text that is no [`EntryState`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("state {0:?} is none of fresh, ends-soon and stale")]
pub struct InvalidState(String);

impl FromStr for EntryState {
    type Err = InvalidState;

    fn from_str(text: &str) -> Result<Self, InvalidState> {
        match text {
            "fresh" => Ok(Self::Fresh),
            "ends-soon" => Ok(Self::EndsSoon),
            "stale" => Ok(Self::Stale),
            other => Err(InvalidState(other.chars().take(40).collect())),
        }
    }
}

/// Which entries are listed, sampled or counted.
#[derive(Debug, Clone, Copy, Default)]
pub struct EntryFilter<'a> {
    /// Only keys that start with this.
    pub prefix: &'a str,
    /// Only entries with this tag.
    pub tag: Option<&'a str>,
    /// Only entries in this state.
    pub state: Option<EntryState>,
}

impl<'a> EntryFilter<'a> {
    /// The entries whose keys start with `prefix`.
    pub fn prefix(prefix: &'a str) -> Self {
        Self { prefix, ..Self::default() }
    }
}

/// The order of a sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryOrder {
    /// The largest values first.
    Largest,
    /// The smallest values first.
    Smallest,
    /// Those stored first, first.
    Oldest,
    /// Those stored last, first.
    Newest,
    /// Those that are stale the longest or will be stale the soonest, first.
    EndsFirst,
    /// Those that stay fresh the longest, first.
    EndsLast,
}

impl EntryOrder {
    /// Every order, with its name.
    pub const ALL: [(Self, &'static str); 6] = [
        (Self::Largest, "largest"),
        (Self::Smallest, "smallest"),
        (Self::Oldest, "oldest"),
        (Self::Newest, "newest"),
        (Self::EndsFirst, "ends-first"),
        (Self::EndsLast, "ends-last"),
    ];

    /// Where an entry stands: lower numbers come first.
    pub(super) fn rank(self, found: &EntryRef) -> i64 {
        let size = found.value_length() as i64;
        let stored_at = found.stored_at().as_millis() as i64;
        let left = match found.freshness() {
            Freshness::Fresh(left) => left.as_millis() as i64,
            Freshness::Stale(since) | Freshness::OnlyOnError(since) => -(since.as_millis() as i64),
            Freshness::Ended => i64::MIN + 1,
        };
        match self {
            Self::Largest => -size,
            Self::Smallest => size,
            Self::Oldest => stored_at,
            Self::Newest => -stored_at,
            Self::EndsFirst => left,
            Self::EndsLast => -left,
        }
    }
}

/// A text that is no [`EntryOrder`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("order {0:?} is none of largest, smallest, oldest, newest, ends-first and ends-last")]
pub struct InvalidOrder(String);

impl FromStr for EntryOrder {
    type Err = InvalidOrder;

    fn from_str(text: &str) -> Result<Self, InvalidOrder> {
        let found = Self::ALL.into_iter().find(|(_, name)| *name == text);
        let found = found.map(|(order, _)| order);
        found.ok_or_else(|| InvalidOrder(text.chars().take(40).collect()))
    }
}

/// The first entries in some order, of a part of the namespace.
#[derive(Debug, Clone, Default)]
pub struct Sample {
    /// The entries, in that order.
    pub entries: Vec<ListedEntry>,
    /// How many live entries were looked at, whether the filter includes them or not.
    pub looked_at: u64,
    /// Whether these were all.
    pub is_whole: bool,
}

/// A step of a count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct CountStep {
    /// How many entries the filter includes.
    pub entries: u64,
    /// The memory that they take beyond their slots, in bytes.
    pub bytes: u64,
    /// Where the next step begins; `None` after the last.
    pub next: Option<Position>,
}

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
