//! Callers that wait for a refill, and what they are told.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::{Entry, Permit, Timestamp};
use verax_origin::OriginError;

/// The outcome of a refill.
#[derive(Debug, Clone)]
pub struct Refilled {
    /// The entry, stored or not.
    pub entry: Entry,
    /// Whether it was stored. It is not if the key was invalidated or written while the origin was
    /// read, the origin forbids storing, or the value does not fit.
    pub stored: bool,
    /// How long the origin read took.
    pub origin_took: Duration,
}

/// The notice a waiting caller receives.
#[derive(Debug, Clone)]
pub(crate) enum WaitOutcome {
    /// The value is there.
    Refilled(Refilled),
    /// The origin returned none.
    OriginFailed(Arc<OriginError>),
    /// The holder of the permit abandoned the refill for every waiter.
    Abandoned,
    /// The permit now belongs to the waiting caller.
    Turn(Permit),
    /// The awaited value would be outdated: try again.
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
        let (sender, outcome) = oneshot::channel();
        (Self { sender, since: now }, outcome)
    }

    /// Notifies the caller; returns whether it is still there.
    pub(crate) fn notify(self, outcome: WaitOutcome) -> bool {
        self.sender.send(outcome).is_ok()
    }
}

/// How many callers waited, and the longest wait.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Waited {
    pub(crate) callers: usize,
    pub(crate) longest: Duration,
}

impl Waited {
    /// How long the callers have waited until `now`.
    pub(crate) fn of(waiters: &[Waiter], now: Timestamp) -> Self {
        let longest = waiters.iter().map(|waiter| now.since(waiter.since)).max();
        Self { callers: waiters.len(), longest: longest.unwrap_or_default() }
    }
}

/// Notifies every caller of the same outcome.
pub(crate) fn notify_all(waiters: Vec<Waiter>, outcome: &WaitOutcome) {
    for waiter in waiters {
        // A caller that has gone need not be notified.
        waiter.notify(outcome.clone());
    }
}
