//! What becomes of a put, and what a namespace holds.

use crate::entry::EntryRevision;

/// What a put did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PutOutcome {
    /// Whether there was an entry, which it replaced.
    pub replaced: bool,
    /// The revision that the new entry is stored with.
    pub revision: EntryRevision,
}

/// Why a value was not stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PutError {
    /// The entry alone is larger than the whole store, or than its namespace's cap.
    #[error("the entry needs {size} bytes, more than the limit of {limit} bytes for all entries")]
    TooLarge {
        /// What the entry would take, with its bookkeeping.
        size: u64,
        /// The store's limit, or the namespace's cap.
        limit: u64,
    },
    /// The condition does not hold.
    #[error("the condition for storing does not hold: the entry there is not the expected one")]
    ConditionFailed,
}

/// What a namespace holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Usage {
    /// How many entries, with those that ended and were not tidied up yet.
    pub entries: u64,
    /// The memory they take, in bytes, with bookkeeping.
    pub bytes: u64,
}
