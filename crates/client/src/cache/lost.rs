//! Invalidations that were not delivered, kept to be sent when Verax is back.

use std::collections::{HashMap, VecDeque};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::outdated::Outdated;

/// The maximum number of invalidations kept.
const MAX_KEPT: usize = 10_000;

/// The undelivered invalidations of one namespace, oldest first, each once.
#[derive(Debug, Default)]
pub(super) struct LostInvalidations {
    state: Mutex<State>,
    /// The length of the queue, so that reads see without a lock that it is empty.
    kept: AtomicUsize,
}

#[derive(Debug, Default)]
struct State {
    queue: VecDeque<Outdated>,
    /// When each was last added, as a number that grows.
    added: HashMap<Outdated, u64>,
    number: u64,
    tags: usize,
    /// Whether a task delivers them.
    is_delivering: bool,
}

/// What became of an invalidation that was to be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kept {
    /// It is kept; with `true` the caller must start a task that delivers.
    Yes { start: bool },
    /// There are too many.
    Overflow,
}

impl LostInvalidations {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps an invalidation.
    pub(super) fn add(&self, outdated: Outdated) -> Kept {
        let mut state = self.state();
        state.number += 1;
        let number = state.number;
        if let Some(added) = state.added.get_mut(&outdated) {
            // One that is on its way was sent before this write.
            *added = number;
        } else {
            if state.queue.len() >= MAX_KEPT {
                return Kept::Overflow;
            }
            state.tags += usize::from(matches!(outdated, Outdated::Tag(_)));
            state.added.insert(outdated.clone(), number);
            state.queue.push_back(outdated);
            self.kept.store(state.queue.len(), Ordering::Release);
        }
        Kept::Yes { start: !std::mem::replace(&mut state.is_delivering, true) }
    }

    /// Whether the entry of a key may be outdated. A tag may be on any entry.
    pub(super) fn concerns(&self, key: &str) -> bool {
        if self.kept.load(Ordering::Acquire) == 0 {
            return false;
        }
        let state = self.state();
        state.tags > 0
            || (!state.queue.is_empty() && state.added.contains_key(&Outdated::Key(key.to_owned())))
    }

    /// The oldest ones, at most `limit`, each with the number of its addition; `None` ends
    /// delivery, since there are none.
    pub(super) fn oldest(&self, limit: usize) -> Option<Vec<(Outdated, u64)>> {
        let mut state = self.state();
        if state.queue.is_empty() {
            state.is_delivering = false;
            return None;
        }
        let oldest = state.queue.iter().take(limit);
        Some(oldest.map(|outdated| (outdated.clone(), state.added[outdated])).collect())
    }

    /// Forgets what was delivered, unless it was added again meanwhile.
    pub(super) fn delivered(&self, delivered: &[(Outdated, u64)]) {
        let mut state = self.state();
        for (outdated, number) in delivered {
            if state.added.get(outdated) == Some(number) {
                state.added.remove(outdated);
                state.tags -= usize::from(matches!(outdated, Outdated::Tag(_)));
            }
        }
        let State { queue, added, .. } = &mut *state;
        queue.retain(|outdated| added.contains_key(outdated));
        self.kept.store(queue.len(), Ordering::Release);
    }

    /// The task that delivers has ended without delivering all.
    pub(super) fn stopped(&self) {
        self.state().is_delivering = false;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_kept_once_until_it_is_delivered() {
        let lost = LostInvalidations::default();
        assert_eq!(lost.add(Outdated::key("a")), Kept::Yes { start: true });
        assert_eq!(lost.add(Outdated::key("a")), Kept::Yes { start: false });
        assert!(lost.concerns("a") && !lost.concerns("b"));
        lost.add(Outdated::tag("t"));
        assert!(lost.concerns("b"), "any entry may have the tag");
        let sent = lost.oldest(1).unwrap();
        assert_eq!(sent[0].0, Outdated::key("a"));
        // Lost again while it is on its way: the one that arrives may precede the second write.
        lost.add(Outdated::key("a"));
        lost.delivered(&sent);
        assert!(lost.concerns("a"));
        lost.delivered(&lost.oldest(1).unwrap());
        assert_eq!(lost.oldest(9).unwrap()[0].0, Outdated::tag("t"));
        lost.delivered(&lost.oldest(9).unwrap());
        assert!(!lost.concerns("a") && !lost.concerns("b"));
        assert_eq!(lost.oldest(9), None);
        assert_eq!(lost.add(Outdated::key("a")), Kept::Yes { start: true });
    }

    #[test]
    fn the_queue_is_bounded() {
        let lost = LostInvalidations::default();
        for n in 0..MAX_KEPT {
            assert_ne!(lost.add(Outdated::key(n.to_string())), Kept::Overflow, "{n}");
        }
        assert_eq!(lost.add(Outdated::key("one too many")), Kept::Overflow);
        assert_ne!(lost.add(Outdated::key("7")), Kept::Overflow, "it is kept already");
        lost.delivered(&lost.oldest(1).unwrap());
        assert_ne!(lost.add(Outdated::key("one too many")), Kept::Overflow);
    }
}
