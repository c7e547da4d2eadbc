//! The epoch of fencing tokens: asked of the records at the start, and again when it is nearly used up.

use std::sync::Arc;
use std::time::Duration;

use crate::service::Service;

/// How often it is looked at, and how long after a failure it is asked for again.
const EVERY: Duration = Duration::from_secs(1);

/// Sees to it that there is an epoch. Without one, locks are refused and everything else runs: a token
/// must never be smaller than one that was given before a restart.
pub(crate) async fn keep_epoch(service: Arc<Service>) {
    let mut told = false;
    loop {
        if service.locks.table().needs_epoch() {
            let given = service.begin_lock_epoch().await;
            if given && told {
                tracing::info!("locks are given again");
            } else if !given && !told {
                tracing::warn!("locks are refused until MariaDB gives an epoch");
            }
            told = !given;
        }
        tokio::time::sleep(EVERY).await;
    }
}

impl Service {
    /// Asks the records for an epoch; returns whether there is one.
    pub(crate) async fn begin_lock_epoch(&self) -> bool {
        let epoch = self.records.next_lock_epoch(self.now()).await;
        if let Ok(epoch) = epoch {
            self.locks.table().begin_epoch(epoch);
        }
        epoch.is_ok()
    }
}
