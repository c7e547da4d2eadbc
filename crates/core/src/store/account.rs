//! Who uses how much: counts that whoever is above shares.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// The bytes and entries of a part of the store. What is charged to it is also charged to the
/// account it belongs to: a namespace's to its tenant's, and that to the whole store's.
#[derive(Debug, Default)]
pub(super) struct Account {
    bytes: AtomicU64,
    entries: AtomicU64,
    parent: Option<Arc<Account>>,
}

impl Account {
    /// An account that belongs to another one.
    pub(super) fn within(parent: &Arc<Self>) -> Arc<Self> {
        Arc::new(Self { parent: Some(Arc::clone(parent)), ..Self::default() })
    }

    /// The bytes in use, bookkeeping included.
    pub(super) fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }

    /// The entries.
    pub(super) fn entries(&self) -> u64 {
        self.entries.load(Ordering::Relaxed)
    }

    /// Adds bytes and entries; negative numbers as their two's complement.
    pub(super) fn charge(&self, bytes: u64, entries: u64) {
        let mut account = Some(self);
        while let Some(here) = account {
            here.bytes.fetch_add(bytes, Ordering::Relaxed);
            if entries != 0 {
                here.entries.fetch_add(entries, Ordering::Relaxed);
            }
            account = here.parent.as_deref();
        }
    }

    /// Removes bytes that were freed.
    pub(super) fn refund(&self, bytes: u64) {
        self.charge(bytes.wrapping_neg(), 0);
    }

    /// Removes entries that are out of use. Their bytes no longer count here, but in the whole
    /// store until they are freed.
    pub(super) fn abandon(&self, bytes: u64, entries: u64) {
        let mut account = Some(self);
        while let Some(here) = account {
            here.entries.fetch_sub(entries, Ordering::Relaxed);
            if here.parent.is_some() {
                here.bytes.fetch_sub(bytes, Ordering::Relaxed);
            }
            account = here.parent.as_deref();
        }
    }
}
