//! A lease that renews itself, and tells when it was lost.

use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::future::BoxFuture;
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::error::ClientError;

/// What renews and releases one lease.
pub(crate) trait Holds: Send + Sync {
    /// Makes the lease last for its whole time again.
    fn renew(&self) -> BoxFuture<'_, Result<(), ClientError>>;
    /// Ends the lease.
    fn release(&self) -> BoxFuture<'_, Result<(), ClientError>>;
}

/// A lock that is held. It renews the lease in the background until it is released or dropped.
///
/// A timed lock cannot promise that its holder still has it at the moment of a write: the holder
/// may be stopped, or cut off, for longer than the lease lasts, and not know it. So give the
/// [fencing token](Self::fencing_token) along with every write, and let what is written to refuse
/// tokens smaller than the largest it has seen.
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

/// Renews a lease three times in its time. It is lost when Verax says so, or when it could not be
/// renewed for as long as it lasts, counted from before it was last asked for.
async fn keep(
    holds: Arc<dyn Holds>,
    lease: Duration,
    asked_at: Instant,
    lost: watch::Sender<bool>,
) {
    // A lease that was waited for began somewhere between the question and the answer: it is
    // renewed at once, so that its end is known.
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
            // It may work the next time, as long as there is one.
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

    /// The lease's fencing token, larger than every one that was given before.
    pub fn fencing_token(&self) -> u64 {
        self.fencing_token
    }

    /// Whether the lease is known to be over.
    pub fn is_lost(&self) -> bool {
        *self.lost.borrow()
    }

    /// Waits until the lease is over without having been released.
    pub async fn lost(&self) {
        let mut lost = self.lost.clone();
        // The sender goes only after it has said so, or when this guard is dropped.
        let _ = lost.wait_for(|lost| *lost).await;
    }

    /// Ends the lease.
    ///
    /// # Errors
    /// [`ClientError`]; a lease that was over already is the problem `not-held`.
    pub async fn release(mut self) -> Result<(), ClientError> {
        self.released = true;
        self.renewing.abort();
        self.holds.release().await
    }
}

impl Drop for LockGuard {
    /// Releases the lease in the background, as far as that is possible; its end time does the
    /// rest.
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
