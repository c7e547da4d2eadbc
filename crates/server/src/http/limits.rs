//! Limits on JSON requests and listings.

/// The highest number that a failure of a run can have.
pub(crate) const MAX_FAILURE_NUMBER: u32 = i32::MAX as u32;

/// The maximum size of an exported load run that is read, in bytes: two hours, second by second.
pub(crate) const MAX_IMPORT_BYTES: usize = 32 << 20;

/// The maximum size of a JSON body, in bytes. Entries have their namespace's limit instead.
pub(crate) const MAX_JSON_BYTES: usize = 8 << 20;

/// The maximum number of locks, and of permits, in one response.
pub(crate) const MAX_LISTED: usize = 1_000;
