//! The signal that a caller's access has ended.

use std::sync::Arc;

use tokio::sync::watch;
use verax_core::guard::lock::AccessId;

/// Notifies everything begun under one access (waits, streams, connections, leases) when that
/// access ends. Clones share the signal; once raised it stays raised.
#[derive(Debug, Clone)]
pub struct AccessSignal(Arc<watch::Sender<bool>>);

impl Default for AccessSignal {
    fn default() -> Self {
        Self(Arc::new(watch::Sender::new(false)))
    }
}

impl AccessSignal {
    /// Raises the signal.
    pub fn end(&self) {
        self.0.send_replace(true);
    }

    /// Whether the signal has been raised.
    pub fn has_ended(&self) -> bool {
        *self.0.borrow()
    }

    /// Waits until the signal is raised.
    pub async fn ended(&self) {
        let mut receiver = self.0.subscribe();
        // The sender lives as long as `self`, so waiting cannot fail.
        let _ = receiver.wait_for(|ended| *ended).await;
    }
}

/// The access under which a lease is held: the lease ends with it.
#[derive(Debug, Clone)]
pub struct LeasedBy {
    /// Its identifier.
    pub id: AccessId,
    /// Raised when it ends.
    pub signal: AccessSignal,
}
