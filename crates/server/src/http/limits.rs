//! Bounds on what one request brings and one response shows.

/// The largest JSON body of a request, in bytes. Entries have their namespace's limit instead.
pub(crate) const MAX_JSON_BYTES: usize = 8 << 20;

/// The most locks, and the most permits, of one response.
pub(crate) const MAX_LISTED: usize = 1_000;
