//! A bound in bytes that can be lowered below what is used.

use std::sync::atomic::{AtomicU64, Ordering};

/// A bound in bytes. When it is lowered below what is used, nobody waits until all of that is gone:
/// what is used shrinks little by little, and meanwhile never grows.
#[derive(Debug)]
pub(super) struct Bound {
    bytes: AtomicU64,
    /// What was used when the bound was lowered, less what has gone since.
    meanwhile: AtomicU64,
}

impl Bound {
    pub(super) fn new(bytes: u64) -> Self {
        Self { bytes: AtomicU64::new(bytes), meanwhile: AtomicU64::new(0) }
    }

    /// The bound as it was set.
    pub(super) fn get(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }

    /// Sets the bound while `used` bytes are used.
    pub(super) fn set(&self, bytes: u64, used: u64) {
        self.bytes.store(bytes, Ordering::Relaxed);
        self.meanwhile.store(used, Ordering::Relaxed);
    }

    /// How many bytes may be used at the moment.
    pub(super) fn most(&self) -> u64 {
        self.get().max(self.meanwhile.load(Ordering::Relaxed))
    }

    /// Only `used` bytes are used any more.
    pub(super) fn shrunk_to(&self, used: u64) {
        // Read first, as it almost always is: nobody else's copy of it has to go.
        if self.meanwhile.load(Ordering::Relaxed) > used {
            self.meanwhile.fetch_min(used, Ordering::Relaxed);
        }
    }
}
