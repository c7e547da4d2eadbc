//! The end of somebody's access, as a signal.

use std::sync::Arc;

use tokio::sync::watch;
use verax_core::guard::lock::AccessId;

/// Tells everything that was begun with some access (waits, streams, connections, leases) when that
/// access ends. Clones share it; it is raised once and stays.
#[derive(Debug, Clone)]
pub struct AccessSignal(Arc<watch::Sender<bool>>);

impl Default for AccessSignal {
    fn default() -> Self {
        Self(Arc::new(watch::Sender::new(false)))
    }
}

impl AccessSignal {
    /// Raises it.
    pub fn end(&self) {
        self.0.send_replace(true);
    }

    /// Whether it was raised.
    pub fn has_ended(&self) -> bool {
        *self.0.borrow()
    }

    /// Waits until it is raised.
    pub async fn ended(&self) {
        let mut receiver = self.0.subscribe();
        // The sender lives as long as this does, so there is nothing to fail.
        let _ = receiver.wait_for(|ended| *ended).await;
    }
}

/// The access that something is leased by: the lease ends with it.
#[derive(Debug, Clone)]
pub struct LeasedBy {
    /// What it is known by.
    pub id: AccessId,
    /// Tells when it ends.
    pub signal: AccessSignal,
}
