//! The locks of the service and their queues.

use std::sync::atomic::AtomicU64;
use std::sync::{Mutex, MutexGuard, PoisonError};

use tokio::sync::{Notify, oneshot};
use verax_core::NamespaceId;
use verax_core::guard::ShareLimits;
use verax_core::guard::lock::{Grant, Holder, LockTable};

/// The maximum number of leases and waits; their memory is in the margin beside the memory limit.
const LIMITS: ShareLimits = ShareLimits { per_namespace: 20_000, guaranteed: 500, in_all: 50_000 };

/// The outcome of acquiring a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Acquired {
    /// The lock was acquired.
    Granted(Grant),
    /// Another caller holds the lock, and the wait timed out.
    HeldByOther(Holder),
}

impl Acquired {
    /// The lease, if it was granted.
    pub fn granted(self) -> Option<Grant> {
        match self {
            Self::Granted(grant) => Some(grant),
            Self::HeldByOther(_) => None,
        }
    }
}

pub(super) type Waiter = oneshot::Sender<Acquired>;

/// All locks of the service.
#[derive(Debug)]
pub(crate) struct Locks {
    pub(super) table: Mutex<LockTable<Waiter>>,
    /// Notified when a deadline is earlier than the ones before.
    pub(super) changed: Notify,
    pub(super) last_session: AtomicU64,
}

impl Default for Locks {
    fn default() -> Self {
        Self {
            table: Mutex::new(LockTable::new(LIMITS)),
            changed: Notify::new(),
            last_session: AtomicU64::new(0),
        }
    }
}

impl Locks {
    pub(super) fn table(&self) -> MutexGuard<'_, LockTable<Waiter>> {
        self.table.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends the leases and waits of a deleted namespace.
    pub(crate) fn end_namespace(&self, namespace: NamespaceId) {
        while self.table().end_namespace(namespace) {}
    }
}
