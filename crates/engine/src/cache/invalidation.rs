//! Publishes invalidations to clients with near copies.

use std::sync::{Arc, OnceLock};

use tokio::sync::broadcast;

use crate::events::{Change, ChangeScope};

/// How many invalidations a watcher may lag behind before it must drop every near copy.
const MAX_PENDING: usize = 1_024;

/// An invalidation, as a watcher receives it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Invalidated {
    /// The entry of one key.
    Key(Arc<str>),
    /// Every entry with a tag.
    Tag(Arc<str>),
    /// Every entry, because the namespace was cleared or the watcher lagged too far behind.
    All,
}

/// The watchers of one namespace; without any, publishing costs one atomic load.
#[derive(Debug, Default)]
pub(crate) struct Watchers(OnceLock<broadcast::Sender<Invalidated>>);

impl Watchers {
    pub(super) fn publish(&self, change: &Change<'_>) {
        let Some(sender) = self.0.get().filter(|sender| sender.receiver_count() > 0) else {
            return;
        };
        let invalidated = match change.scope {
            ChangeScope::Key(key) => Invalidated::Key(key.as_str().into()),
            ChangeScope::Tag(tag) => Invalidated::Tag(tag.into()),
            ChangeScope::All => Invalidated::All,
        };
        // The last watcher may have gone in the meantime.
        let _ = sender.send(invalidated);
    }

    /// Tells all watchers to drop their near copies, although nothing has changed.
    pub(crate) fn drop_near_copies(&self) {
        // Nobody may be watching.
        let _ = self.0.get().map(|sender| sender.send(Invalidated::All));
    }

    pub(super) fn watch(&self) -> broadcast::Receiver<Invalidated> {
        self.0.get_or_init(|| broadcast::Sender::new(MAX_PENDING)).subscribe()
    }
}

/// The invalidations of one namespace from now on.
#[derive(Debug)]
pub struct InvalidationWatch(pub(super) broadcast::Receiver<Invalidated>);

impl InvalidationWatch {
    /// The next invalidation; `None` when the namespace is gone.
    pub async fn next(&mut self) -> Option<Invalidated> {
        match self.0.recv().await {
            Ok(invalidated) => Some(invalidated),
            Err(broadcast::error::RecvError::Lagged(_)) => Some(Invalidated::All),
            Err(broadcast::error::RecvError::Closed) => None,
        }
    }
}
