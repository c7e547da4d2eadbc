//! The outcome of a put, and the use of a namespace.

use crate::entry::EntryRevision;

/// The outcome of a put.
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
    #[error("the condition does not hold: the entry is not the expected one")]
    ConditionFailed,
}

/// What a namespace holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Usage {
    /// How many entries, including expired ones that are not tidied yet.
    pub entries: u64,
    /// Their memory in bytes, including bookkeeping.
    pub bytes: u64,
}
