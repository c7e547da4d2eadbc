//! Callers that wait for a refill, and what they are told.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::{Entry, Permit, Timestamp};
use verax_origin::OriginError;

/// What a refill brought.
#[derive(Debug, Clone)]
pub struct Refilled {
    /// The entry, stored or not.
    pub entry: Entry,
    /// Whether it was stored. It is not when the key was invalidated or written while the origin
    /// was read, when the origin forbids it, or when it does not fit.
    pub stored: bool,
    /// How long the origin took.
    pub origin_took: Duration,
}

/// What a waiting caller is told.
#[derive(Debug, Clone)]
pub(crate) enum WaitOutcome {
    /// The value is there.
    Refilled(Refilled),
    /// The origin gave none.
    OriginFailed(Arc<OriginError>),
    /// The caller that refilled gave up, for all.
    Abandoned,
    /// The permit is the waiting caller's now.
    Turn(Permit),
    /// What was waited for would be old: ask again.
    AskAgain,
}

/// A caller that waits.
#[derive(Debug)]
pub(crate) struct Waiter {
    sender: oneshot::Sender<WaitOutcome>,
    since: Timestamp,
}

impl Waiter {
    pub(crate) fn new(now: Timestamp) -> (Self, oneshot::Receiver<WaitOutcome>) {
        let (sender, told) = oneshot::channel();
        (Self { sender, since: now }, told)
    }

    /// Tells it; returns whether it is still there to be told.
    pub(crate) fn notify(self, told: WaitOutcome) -> bool {
        self.sender.send(told).is_ok()
    }
}

/// How many waited, and how long at most.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Waited {
    pub(crate) callers: usize,
    pub(crate) longest: Duration,
}

impl Waited {
    /// What these have waited until `now`.
    pub(crate) fn of(waiters: &[Waiter], now: Timestamp) -> Self {
        let longest = waiters.iter().map(|waiter| now.since(waiter.since)).max();
        Self { callers: waiters.len(), longest: longest.unwrap_or_default() }
    }
}

/// Tells everybody the same.
pub(crate) fn notify_all(waiters: Vec<Waiter>, told: &WaitOutcome) {
    for waiter in waiters {
        // A caller that has gone does not need to be told.
        waiter.notify(told.clone());
    }
}
