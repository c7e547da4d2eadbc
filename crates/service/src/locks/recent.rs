//! What happened to locks lately.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use verax_core::guard::lock::{EndedBy, FencingToken, Grant, Holder, LockName};
use verax_core::{Key, NamespaceId, Timestamp};

/// How much is remembered, for all namespaces together.
const MOST: usize = 1_000;

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LockEventKind {
    /// Somebody got the lock.
    Granted,
    /// Its holder released it.
    Released,
    /// The hold's time was over.
    Lapsed,
    /// An administrator ended the hold.
    Forced,
    /// The hold ended with its holder's connection.
    Disconnected,
    /// The hold ended with its holder's access.
    Withdrawn,
    /// Somebody waited in vain.
    GaveUp,
}

/// Something that happened to a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockEvent {
    /// When.
    pub at: Timestamp,
    /// The namespace.
    pub namespace: NamespaceId,
    /// The lock.
    pub name: Key,
    /// What.
    pub kind: LockEventKind,
    /// Whose hold or wait it was.
    pub owner: String,
    /// The hold's token; `None` for a wait in vain.
    pub token: Option<FencingToken>,
    /// How long it had been waited for, or held.
    pub lasted: Duration,
}

/// The latest events.
#[derive(Debug, Default)]
pub(super) struct Recent(Mutex<VecDeque<LockEvent>>);

impl Recent {
    fn events(&self) -> MutexGuard<'_, VecDeque<LockEvent>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn add(&self, event: LockEvent) {
        let mut events = self.events();
        if events.len() == MOST {
            events.pop_back();
        }
        events.push_front(event);
    }

    pub(super) fn granted(&self, grant: &Grant, owner: &str, waited: Duration, now: Timestamp) {
        let (namespace, name) = grant.name.clone();
        let (owner, token) = (owner.to_owned(), Some(grant.token));
        let kind = LockEventKind::Granted;
        self.add(LockEvent { at: now, namespace, name, kind, owner, token, lasted: waited });
    }

    pub(super) fn gave_up(&self, name: &LockName, owner: &str, waited: Duration, now: Timestamp) {
        let (namespace, name) = name.clone();
        let (owner, kind) = (owner.to_owned(), LockEventKind::GaveUp);
        self.add(LockEvent { at: now, namespace, name, kind, owner, token: None, lasted: waited });
    }

    pub(super) fn ended(&self, name: &LockName, holder: &Holder, by: EndedBy, now: Timestamp) {
        let (namespace, name) = name.clone();
        // A lapse is noticed a little after it happened.
        let at = if by == EndedBy::Time { holder.ends_at.min(now) } else { now };
        self.add(LockEvent {
            at,
            namespace,
            name,
            kind: super::kind_of(by),
            owner: holder.owner.clone(),
            token: Some(holder.token),
            lasted: at.since(holder.since),
        });
    }

    /// The latest events of the namespaces that `which` knows, newest first.
    pub(super) fn latest<N>(
        &self,
        which: impl Fn(NamespaceId) -> Option<N>,
        most: usize,
    ) -> Vec<(N, LockEvent)> {
        let events = self.events();
        let known = events.iter().filter_map(|event| Some((which(event.namespace)?, event)));
        known.take(most).map(|(namespace, event)| (namespace, event.clone())).collect()
    }

    pub(super) fn of(&self, namespace: NamespaceId) -> Vec<LockEvent> {
        self.events().iter().filter(|event| event.namespace == namespace).cloned().collect()
    }
}
