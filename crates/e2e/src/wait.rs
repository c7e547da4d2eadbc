//! Waiting on conditions, never on time.

use std::time::{Duration, Instant};

/// The timeout of every wait, for slow machines.
const PATIENCE: Duration = Duration::from_secs(90);

/// Waits until `what` returns a value.
pub async fn until_some<T>(what: &str, mut look: impl AsyncFnMut() -> Option<T>) -> T {
    let started = Instant::now();
    loop {
        if let Some(found) = look().await {
            return found;
        }
        assert!(started.elapsed() < PATIENCE, "gave up waiting until {what}");
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
}

/// Waits until a condition holds.
pub async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    until_some(what, async || holds().await.then_some(())).await;
}
