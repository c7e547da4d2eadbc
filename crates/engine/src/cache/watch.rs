//! Watching the invalidations of a namespace.

use super::invalidation::InvalidationWatch;
use crate::handle::Reader;

impl Reader {
    /// Watches what becomes untrue.
    pub fn watch_invalidations(&self) -> InvalidationWatch {
        InvalidationWatch(self.watchers().watch())
    }
}
