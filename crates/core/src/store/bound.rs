//! A limit that can be lowered below the current use.

use std::sync::atomic::{AtomicU64, Ordering};

/// A limit on bytes or entries. When it is lowered below the current use, nobody waits for the
/// excess to go: the use shrinks little by little and never grows meanwhile.
#[derive(Debug)]
pub(super) struct Bound {
    limit: AtomicU64,
    /// The use when the limit was lowered, less what has gone since.
    meanwhile: AtomicU64,
}

impl Bound {
    pub(super) fn new(limit: u64) -> Self {
        Self { limit: AtomicU64::new(limit), meanwhile: AtomicU64::new(0) }
    }

    /// The limit as set.
    pub(super) fn get(&self) -> u64 {
        self.limit.load(Ordering::Relaxed)
    }

    /// Sets the limit while `used` is in use.
    pub(super) fn set(&self, limit: u64, used: u64) {
        self.limit.store(limit, Ordering::Relaxed);
        self.meanwhile.store(used, Ordering::Relaxed);
    }

    /// How much may be in use at the moment.
    pub(super) fn most(&self) -> u64 {
        self.get().max(self.meanwhile.load(Ordering::Relaxed))
    }

    /// Notes that the use has shrunk to `used`.
    pub(super) fn shrunk_to(&self, used: u64) {
        // Read first: in the usual case no other processor's cache line is invalidated.
        if self.meanwhile.load(Ordering::Relaxed) > used {
            self.meanwhile.fetch_min(used, Ordering::Relaxed);
        }
    }
}
