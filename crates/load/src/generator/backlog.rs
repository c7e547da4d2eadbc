//! The requests of a lane that are due and not answered yet, in an open loop.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Counts the requests of a lane that were due, and those that ended.
#[derive(Debug, Clone, Default)]
pub(super) struct Backlog(Arc<Counts>);

#[derive(Debug, Default)]
struct Counts {
    due: AtomicU64,
    ended: AtomicU64,
    /// How many were due at the last look.
    due_before: AtomicU64,
}

impl Backlog {
    /// A request is due.
    pub(super) fn due(&self) {
        self.0.due.fetch_add(1, Ordering::Relaxed);
    }

    /// A request has ended, whatever came of it.
    pub(super) fn ended(&self) {
        self.0.ended.fetch_add(1, Ordering::Relaxed);
    }

    /// How many requests were due at the last call of this, and have not ended; those that are on
    /// their way since then do not count.
    pub(super) fn left(&self) -> u64 {
        let ended = self.0.ended.load(Ordering::Relaxed);
        let due = self.0.due.load(Ordering::Relaxed);
        self.0.due_before.swap(due, Ordering::Relaxed).saturating_sub(ended)
    }
}

#[cfg(test)]
mod tests {
    use super::Backlog;

    #[test]
    fn only_what_was_due_before_is_left() {
        let backlog = Backlog::default();
        (0..5).for_each(|_| backlog.due());
        assert_eq!(backlog.left(), 0, "they may be on their way");
        (0..2).for_each(|_| backlog.ended());
        backlog.due();
        assert_eq!(backlog.left(), 3);
        (0..4).for_each(|_| backlog.ended());
        assert_eq!(backlog.left(), 0);
    }
}
