//! A caller that is queued for a lock.

use std::sync::Arc;

use tokio::sync::oneshot;
use verax_core::guard::lock::{LockName, Ticket};

use super::state::Acquired;
use crate::engine::Engine;

/// A place in a queue. Dropping it leaves the queue and returns an unclaimed grant: a caller that
/// is gone must not hold a lock.
pub(super) struct QueuedWait {
    engine: Arc<Engine>,
    name: LockName,
    ticket: Ticket,
    answer: oneshot::Receiver<Acquired>,
    answered: bool,
}

impl QueuedWait {
    pub(super) fn new(
        engine: &Arc<Engine>,
        name: LockName,
        ticket: Ticket,
        answer: oneshot::Receiver<Acquired>,
    ) -> Self {
        Self { engine: Arc::clone(engine), name, ticket, answer, answered: false }
    }

    /// Waits for the outcome; `None` if there will be none, because the service stops.
    pub(super) async fn wait(mut self) -> Option<Acquired> {
        let mut stopping = self.engine.stopping();
        let answer = tokio::select! {
            answer = &mut self.answer => answer.ok(),
            _ = stopping.wait_for(|stopping| *stopping) => None,
        };
        self.answered = answer.is_some();
        answer
    }
}

impl Drop for QueuedWait {
    fn drop(&mut self) {
        let (engine, locks) = (&self.engine, &self.engine.locks);
        if self.answered || locks.table().leave(&self.name, self.ticket) {
            return;
        }
        // The grant may be in transit: closing the channel makes sure it has either arrived or is
        // refused.
        self.answer.close();
        if let Ok(Acquired::Granted(grant)) = self.answer.try_recv() {
            let (now, mut notices) = (engine.now(), Vec::new());
            let _ = locks.table().release(&self.name, grant.token, now, &mut notices);
            engine.deliver_locks(notices, now);
        }
    }
}
