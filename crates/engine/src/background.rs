//! Background work that is restarted until the process stops, even after a panic.

use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::sync::watch;

/// Background work.
pub type Work = Pin<Box<dyn Future<Output = ()> + Send>>;

/// The delay before a background task that ended by itself is restarted.
const RESTART_AFTER: Duration = Duration::from_secs(1);

/// Runs work until `stopping` is true. Work that ends earlier, for example by a panic, is logged,
/// counted, and restarted.
pub async fn supervise(
    begin: impl Fn() -> Work,
    mut stopping: watch::Receiver<bool>,
    restarts: &AtomicU64,
) {
    loop {
        let mut task = tokio::spawn(begin());
        tokio::select! {
            ended = &mut task => {
                tracing::error!(?ended, "a background task ended unexpectedly: restarting it");
                restarts.fetch_add(1, Ordering::Relaxed);
            }
            _ = stopping.wait_for(|stopping| *stopping) => {
                task.abort();
                return;
            }
        }
        tokio::time::sleep(RESTART_AFTER).await;
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_background_task_that_panics_restarts() {
        let (begun, stop) = (Arc::new(AtomicU64::new(0)), watch::Sender::new(false));
        let restarts = AtomicU64::new(0);
        let begin = || -> Work {
            let (begun, stop) = (Arc::clone(&begun), stop.clone());
            Box::pin(async move {
                match begun.fetch_add(1, Ordering::Relaxed) {
                    0 => panic!("as a bug would"),
                    1 => {}
                    _ => {
                        stop.send_replace(true);
                        std::future::pending::<()>().await;
                    }
                }
            })
        };
        supervise(begin, stop.subscribe(), &restarts).await;
        assert_eq!((begun.load(Ordering::Relaxed), restarts.load(Ordering::Relaxed)), (3, 2));
    }
}
