//! What a namespace or tenant is guaranteed, and may never exceed.

use serde::{Deserialize, Serialize};

use super::account::Account;
use super::bound::Bound;
use std::sync::atomic::{AtomicU64, Ordering};

/// What a namespace, or a tenant with all of its namespaces, is guaranteed and may never exceed.
/// Bytes include bookkeeping.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Quota {
    /// Memory that nobody else can push it below.
    pub reserve: u64,
    /// Memory that it never exceeds.
    pub cap: u64,
    /// The most entries.
    pub entries: u64,
}

impl Default for Quota {
    /// No reserve, no cap, and any number of entries.
    fn default() -> Self {
        Self { reserve: 0, cap: u64::MAX, entries: u64::MAX }
    }
}

/// A quota that is held against an account.
#[derive(Debug)]
pub(super) struct HeldQuota {
    reserve: AtomicU64,
    cap: Bound,
    entries: Bound,
}

impl HeldQuota {
    pub(super) fn new(quota: Quota) -> Self {
        Self {
            reserve: AtomicU64::new(quota.reserve),
            cap: Bound::new(quota.cap),
            entries: Bound::new(quota.entries),
        }
    }

    /// The quota as set.
    pub(super) fn get(&self) -> Quota {
        let reserve = self.reserve.load(Ordering::Relaxed);
        Quota { reserve, cap: self.cap.get(), entries: self.entries.get() }
    }

    /// Sets the quota. An account above it does not grow, and shrinks bit by bit.
    pub(super) fn set(&self, quota: Quota, account: &Account) {
        self.reserve.store(quota.reserve, Ordering::Relaxed);
        self.cap.set(quota.cap, account.bytes());
        self.entries.set(quota.entries, account.entries());
    }

    /// Whether more is used than at the moment may be.
    pub(super) fn is_broken(&self, account: &Account) -> bool {
        account.bytes() > self.cap.most() || account.entries() > self.entries.most()
    }

    /// Whether more is used than the quota as set.
    pub(super) fn is_exceeded(&self, account: &Account) -> bool {
        account.bytes() > self.cap.get() || account.entries() > self.entries.get()
    }

    /// Notes what is in use now, so that more is not used again while the quota is exceeded.
    pub(super) fn note_shrunk(&self, account: &Account) {
        self.cap.shrunk_to(account.bytes());
        self.entries.shrunk_to(account.entries());
    }
}
