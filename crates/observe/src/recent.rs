//! The latest events of a kind, for all namespaces together.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

use verax_core::NamespaceId;
use verax_engine::events::{DamageRecord, LockEvent, RefillRecord};

/// How many events are kept.
const MOST: usize = 1_000;

/// An event of a namespace.
pub(crate) trait HasNamespace: Clone {
    /// Which.
    fn namespace(&self) -> NamespaceId;
}

impl HasNamespace for RefillRecord {
    fn namespace(&self) -> NamespaceId {
        self.namespace
    }
}

impl HasNamespace for LockEvent {
    fn namespace(&self) -> NamespaceId {
        self.namespace
    }
}

impl HasNamespace for DamageRecord {
    fn namespace(&self) -> NamespaceId {
        self.namespace
    }
}

/// The latest events.
#[derive(Debug)]
pub(crate) struct Recent<E>(Mutex<VecDeque<E>>);

impl<E> Default for Recent<E> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<E: HasNamespace> Recent<E> {
    fn events(&self) -> MutexGuard<'_, VecDeque<E>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn add(&self, event: E) {
        let mut events = self.events();
        if events.len() == MOST {
            events.pop_back();
        }
        events.push_front(event);
    }

    /// The latest events of the namespaces that `which` accepts, newest first.
    pub(crate) fn latest<N>(
        &self,
        which: impl Fn(NamespaceId) -> Option<N>,
        most: usize,
    ) -> Vec<(N, E)> {
        let events = self.events();
        let known = events.iter().filter_map(|event| Some((which(event.namespace())?, event)));
        known.take(most).map(|(namespace, event)| (namespace, event.clone())).collect()
    }

    /// The latest events of one namespace, newest first.
    pub(crate) fn of(&self, namespace: NamespaceId) -> Vec<E> {
        self.events().iter().filter(|event| event.namespace() == namespace).cloned().collect()
    }
}
