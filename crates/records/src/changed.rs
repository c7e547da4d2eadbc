//! The outcome of a change.

/// A committed change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changed<R> {
    /// Its result.
    pub value: R,
    /// The records' revision after it.
    pub revision: u64,
}
