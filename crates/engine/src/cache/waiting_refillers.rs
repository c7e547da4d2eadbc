//! The services of a namespace that wait for keys to refill.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::sync::{Notify, oneshot};
use verax_core::guard::{self, RefillerQueue, RefillerTicket};
use verax_core::{Permit, Timestamp};

use crate::access::LeasedBy;

/// A service that waits.
#[derive(Debug)]
pub(super) struct WaitingRefiller {
    pub(super) caller: guard::Refiller,
    pub(super) lease: Duration,
    pub(super) access: Option<LeasedBy>,
    pub(super) sender: oneshot::Sender<Permit>,
}

impl WaitingRefiller {
    fn is_gone(&self) -> bool {
        self.sender.is_closed()
            || self.access.as_ref().is_some_and(|access| access.signal.has_ended())
    }
}

/// The services of a namespace that wait to be asked.
#[derive(Debug)]
pub(crate) struct Refillers {
    queue: Mutex<RefillerQueue<WaitingRefiller>>,
    /// One came.
    pub(super) came: Notify,
}

impl Refillers {
    pub(crate) fn new(now: Timestamp) -> Self {
        Self { queue: Mutex::new(RefillerQueue::new(now)), came: Notify::new() }
    }

    pub(super) fn queue(&self) -> MutexGuard<'_, RefillerQueue<WaitingRefiller>> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends the waits of all: the namespace is gone.
    pub(crate) fn end(&self) {
        drop(self.queue().take_all());
    }

    /// The next service that is there.
    pub(super) fn take(&self, now: Timestamp) -> Option<(RefillerTicket, WaitingRefiller)> {
        let mut queue = self.queue();
        loop {
            let (ticket, refiller) = queue.take()?;
            if !refiller.is_gone() {
                return Some((ticket, refiller));
            }
            queue.ended(now);
        }
    }
}
