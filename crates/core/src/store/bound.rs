//! A limit in bytes that can be lowered below the current use.

use std::sync::atomic::{AtomicU64, Ordering};

/// A limit in bytes. When it is lowered below the current use, nobody waits for the excess to go:
/// the use shrinks little by little and never grows meanwhile.
#[derive(Debug)]
pub(super) struct Bound {
    bytes: AtomicU64,
    /// The use when the limit was lowered, less what has gone since.
    meanwhile: AtomicU64,
}

impl Bound {
    pub(super) fn new(bytes: u64) -> Self {
        Self { bytes: AtomicU64::new(bytes), meanwhile: AtomicU64::new(0) }
    }

    /// The limit as set.
    pub(super) fn get(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }

    /// Sets the limit while `used` bytes are in use.
    pub(super) fn set(&self, bytes: u64, used: u64) {
        self.bytes.store(bytes, Ordering::Relaxed);
        self.meanwhile.store(used, Ordering::Relaxed);
    }

    /// How many bytes may be in use at the moment.
    pub(super) fn most(&self) -> u64 {
        self.get().max(self.meanwhile.load(Ordering::Relaxed))
    }

    /// Notes that the use has shrunk to `used` bytes.
    pub(super) fn shrunk_to(&self, used: u64) {
        // Read first: in the usual case no other processor's cache line is invalidated.
        if self.meanwhile.load(Ordering::Relaxed) > used {
            self.meanwhile.fetch_min(used, Ordering::Relaxed);
        }
    }
}
