//! Watching the invalidations of a namespace.

use super::invalidation::InvalidationWatch;
use crate::handle::Reader;

impl Reader {
    /// Watches invalidations.
    pub fn watch_invalidations(&self) -> InvalidationWatch {
        InvalidationWatch(self.watchers().watch())
    }
}
