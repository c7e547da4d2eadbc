//! Near copies: values kept in this process and dropped when Verax invalidates them.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use tokio::time::Instant;
use verax_core::store::{Precondition, Quota, Store};
use verax_core::{Entry, EntryRef, Key, Lifetime, NamespaceId, Partition, Timestamp};

use crate::wire::link::Invalidation;

/// Options of near copies.
///
/// A near copy is dropped as soon as Verax publishes that its entry was written, deleted or
/// invalidated, and when the connection for these notices breaks. A silent break is detected within
/// two seconds. So no near copy outlives an invalidation by more than two seconds, nor lives longer
/// than `max_age` in any case.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NearCopies {
    /// Their maximum memory, in bytes, including overhead.
    pub max_bytes: u64,
    /// How long one is kept at most, even if its entry lives longer.
    pub max_age: Duration,
}

impl Default for NearCopies {
    fn default() -> Self {
        Self { max_bytes: 16 << 20, max_age: Duration::from_secs(10) }
    }
}

/// The near copies of one namespace.
#[derive(Debug)]
pub(super) struct Near {
    max_age: Duration,
    store: Store,
    partition: Arc<Partition>,
    started: Instant,
    /// Grows with every push: a value requested before a push that arrives after it may be
    /// outdated, so it is not kept.
    pushes: AtomicU64,
    /// Whether Verax currently pushes invalidations.
    pub(super) watched: AtomicBool,
    /// Held by the one call that subscribes.
    pub(super) asking: tokio::sync::Mutex<()>,
}

impl Near {
    pub(super) fn new(options: NearCopies) -> Self {
        let store = Store::new(options.max_bytes);
        Self {
            max_age: options.max_age,
            partition: store.open(NamespaceId(0), Quota::default()),
            store,
            started: Instant::now(),
            pushes: AtomicU64::new(0),
            watched: AtomicBool::new(false),
            asking: tokio::sync::Mutex::default(),
        }
    }

    fn now(&self) -> Timestamp {
        Timestamp::from_millis(self.started.elapsed().as_millis() as u64)
    }

    /// The near copy of a key.
    pub(super) fn get(&self, key: &str) -> Option<EntryRef> {
        if !self.watched.load(Ordering::Acquire) {
            return None;
        }
        self.partition.get(key, self.now())
    }

    /// The mark for [`keep`](Self::keep), taken before the value is requested.
    pub(super) fn mark(&self) -> u64 {
        self.pushes.load(Ordering::Acquire)
    }

    /// Keeps a value while it is fresh, unless something was pushed since `mark`.
    pub(super) fn keep(&self, key: &str, mark: u64, fresh_for: Duration, mut entry: Entry) {
        let Ok(key) = Key::new(key) else { return };
        let now = self.now();
        let lifetime = Lifetime::of(fresh_for.min(self.max_age));
        if lifetime.max_age.is_zero() || !self.watched.load(Ordering::Acquire) {
            return;
        }
        (entry.lifetime, entry.stored_at) = (lifetime, now);
        // A value that does not fit is not kept.
        let _ = self.partition.put(&key, &entry, Precondition::Always, now);
        // Checked after the put: a push in between has either removed the copy or is detected here.
        if self.pushes.load(Ordering::Acquire) != mark {
            self.partition.delete(key.as_str(), now);
        }
        self.store.tidy(1, now);
    }

    /// Drops the copy of a key that this process writes or deletes.
    pub(super) fn forget(&self, key: &str) {
        self.pushes.fetch_add(1, Ordering::AcqRel);
        self.partition.delete(key, self.now());
    }

    /// Handles an invalidation.
    pub(super) fn pushed(&self, pushed: &Invalidation) {
        self.pushes.fetch_add(1, Ordering::AcqRel);
        match pushed {
            Invalidation::Key(key) => drop(self.partition.delete(key, self.now())),
            Invalidation::Tag(tag) => drop(self.partition.invalidate_tag(tag)),
            Invalidation::All => drop(self.partition.clear()),
        }
    }

    /// Handles the end of pushes.
    pub(super) fn lost(&self) {
        self.watched.store(false, Ordering::Release);
        self.pushed(&Invalidation::All);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn near() -> Near {
        let near = Near::new(NearCopies { max_bytes: 1 << 20, max_age: Duration::from_secs(10) });
        near.watched.store(true, Ordering::Release);
        near
    }

    fn entry(tag: Option<&str>) -> Entry {
        let tags: Vec<verax_core::Tag> = tag.into_iter().map(Into::into).collect();
        Entry::new("v", "text/plain", Lifetime::default(), Timestamp::default()).with_tags(tags)
    }

    const FRESH: Duration = Duration::from_secs(60);

    #[test]
    fn a_push_drops_the_named_copies() {
        let near = near();
        for (key, tag) in [("a", Some("t")), ("b", None), ("c", Some("u"))] {
            near.keep(key, near.mark(), FRESH, entry(tag));
        }
        near.pushed(&Invalidation::Key("b".into()));
        near.pushed(&Invalidation::Tag("t".into()));
        let left = ["a", "b", "c"].map(|key| near.get(key).is_some());
        assert_eq!(left, [false, false, true]);
        near.pushed(&Invalidation::All);
        assert!(near.get("c").is_none());
    }

    #[test]
    fn a_value_requested_before_a_push_is_not_kept_after_it() {
        let near = near();
        let mark = near.mark();
        near.pushed(&Invalidation::Key("other".into()));
        near.keep("a", mark, FRESH, entry(None));
        assert!(near.get("a").is_none());
    }

    #[test]
    fn without_a_watch_no_copy_is_kept_or_served() {
        let near = near();
        near.keep("a", near.mark(), FRESH, entry(None));
        near.lost();
        assert!(near.get("a").is_none());
        near.keep("a", near.mark(), FRESH, entry(None));
        near.watched.store(true, Ordering::Release);
        assert!(near.get("a").is_none());
    }

    #[test]
    fn near_copies_are_bounded_in_memory() {
        let near = near();
        for n in 0..10_000 {
            let big = Entry::new(vec![0; 1_000], "a/b", Lifetime::default(), Timestamp::default());
            near.keep(&n.to_string(), near.mark(), FRESH, big);
        }
        assert!(near.store.used() <= 1 << 20);
    }
}
