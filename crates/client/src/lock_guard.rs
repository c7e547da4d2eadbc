//! A lease that renews itself, and notifies its holder when it is lost.

use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::Instant;

use crate::error::ClientError;

/// Renews and releases one lease.
pub(crate) trait Holds: Send + Sync {
    /// Renews the lease to its full length.
    fn renew(&self) -> BoxFuture<'_, Result<(), ClientError>>;
    /// Ends the lease.
    fn release(&self) -> BoxFuture<'_, Result<(), ClientError>>;
}

/// A held lock. Its lease is renewed in the background until the guard is released or dropped.
///
/// A lock with a lease cannot guarantee that its holder still has it at the moment of a write: the
/// holder may be paused or disconnected for longer than the lease without noticing. Send the
/// [fencing token](Self::fencing_token) with every write, and let the target refuse tokens smaller
/// than the largest it has seen.
pub struct LockGuard {
    name: String,
    fencing_token: u64,
    holds: Arc<dyn Holds>,
    lost: watch::Receiver<bool>,
    renewing: JoinHandle<()>,
    released: bool,
}

impl std::fmt::Debug for LockGuard {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("LockGuard")
            .field("name", &self.name)
            .field("fencing_token", &self.fencing_token)
            .field("lost", &self.is_lost())
            .finish_non_exhaustive()
    }
}

/// Renews a lease three times within its length. It is lost when Verax says so, or when it could
/// not be renewed for its length, counted from before the last successful request.
async fn keep(
    holds: Arc<dyn Holds>,
    lease: Duration,
    asked_at: Instant,
    lost: watch::Sender<bool>,
) {
    // A lease after a wait began somewhere between request and response: it is renewed immediately,
    // so that its end is known.
    let waited = asked_at.elapsed() > lease / 6;
    let mut ends = if waited { Instant::now() + lease } else { asked_at + lease };
    let mut pause = if waited { Duration::ZERO } else { lease / 3 };
    loop {
        tokio::time::sleep(pause.min(ends.saturating_duration_since(Instant::now()))).await;
        pause = lease / 3;
        let began = Instant::now();
        let left = ends.saturating_duration_since(began);
        match tokio::time::timeout(left, holds.renew()).await {
            Ok(Ok(())) => ends = began + lease,
            Ok(Err(ClientError::Refused(problem))) if problem.status < 500 => break,
            // The next attempt may succeed, if there is time for one.
            Ok(Err(_)) if Instant::now() < ends => {
                pause = (lease / 20).max(Duration::from_millis(10));
            }
            Ok(Err(_)) | Err(_) => break,
        }
        if Instant::now() >= ends {
            break;
        }
    }
    lost.send_replace(true);
}

impl LockGuard {
    pub(crate) fn new(
        name: &str,
        fencing_token: u64,
        holds: Arc<dyn Holds>,
        lease: Duration,
        asked_at: Instant,
    ) -> Self {
        let (sender, lost) = watch::channel(false);
        let renewing = tokio::spawn(keep(Arc::clone(&holds), lease, asked_at, sender));
        Self { name: name.to_owned(), fencing_token, holds, lost, renewing, released: false }
    }

    /// The lock's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The lease's fencing token, larger than every earlier one.
    pub fn fencing_token(&self) -> u64 {
        self.fencing_token
    }

    /// Whether the lease is known to have ended.
    pub fn is_lost(&self) -> bool {
        *self.lost.borrow()
    }

    /// Waits until the lease is lost.
    pub async fn lost(&self) {
        let mut lost = self.lost.clone();
        // The sender is dropped only after it has sent this, or with this guard.
        let _ = lost.wait_for(|lost| *lost).await;
    }

    /// Ends the lease.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `not-held` if the lease had already ended.
    pub async fn release(mut self) -> Result<(), ClientError> {
        self.released = true;
        self.renewing.abort();
        self.holds.release().await
    }
}

impl Drop for LockGuard {
    /// Releases the lease in the background, if possible; otherwise it expires.
    fn drop(&mut self) {
        self.renewing.abort();
        if self.released || self.is_lost() {
            return;
        }
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            let holds = Arc::clone(&self.holds);
            runtime.spawn(async move { drop(holds.release().await) });
        }
    }
}
