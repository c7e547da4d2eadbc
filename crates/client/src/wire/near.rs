//! Near copies: values kept in this process, dropped when Verax says that they are no longer true.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use verax_core::store::{Precondition, Quota, Store};
use verax_core::{Entry, EntryRef, Key, Lifetime, NamespaceId, Partition, Timestamp};

use super::link::Invalidation;

/// How near copies are kept.
///
/// A near copy is dropped as soon as Verax tells that its entry was written, deleted or
/// invalidated, and when the connection that it would tell on breaks. A connection that breaks
/// without a sign is noticed within two seconds. So no near copy outlives an invalidation for
/// longer than two seconds, and none for longer than `longest` in any case.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NearCopies {
    /// The most memory they take, in bytes, bookkeeping included.
    pub bytes: u64,
    /// The longest that one is kept, however long its entry lives.
    pub longest: Duration,
}

impl Default for NearCopies {
    fn default() -> Self {
        Self { bytes: 16 << 20, longest: Duration::from_secs(10) }
    }
}

/// The near copies of one namespace.
#[derive(Debug)]
pub(super) struct Near {
    longest: Duration,
    store: Store,
    partition: Arc<Partition>,
    started: Instant,
    /// Grows with everything that is pushed: a value that was asked for before a push and arrives
    /// after it may be an old one, so it is not kept.
    pushes: AtomicU64,
    /// Whether Verax tells what becomes untrue at the moment.
    pub(super) watched: AtomicBool,
    /// Held by the one call that asks to be told.
    pub(super) asking: tokio::sync::Mutex<()>,
}

impl Near {
    pub(super) fn new(options: NearCopies) -> Self {
        let store = Store::new(options.bytes);
        Self {
            longest: options.longest,
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

    /// What to give [`keep`](Self::keep), taken before the value is asked for.
    pub(super) fn mark(&self) -> u64 {
        self.pushes.load(Ordering::Acquire)
    }

    /// Keeps a value for as long as it is fresh, unless something was pushed since `mark`.
    pub(super) fn keep(&self, key: &str, mark: u64, fresh_for: Duration, mut entry: Entry) {
        let Ok(key) = Key::new(key) else { return };
        let now = self.now();
        let lifetime = Lifetime::of(fresh_for.min(self.longest));
        if lifetime.max_age.is_zero() || !self.watched.load(Ordering::Acquire) {
            return;
        }
        (entry.lifetime, entry.stored_at) = (lifetime, now);
        // What does not fit is not kept.
        let _ = self.partition.put(&key, &entry, Precondition::Always, now);
        // Checked after the put: a push in between has either removed the copy or is seen here.
        if self.pushes.load(Ordering::Acquire) != mark {
            self.partition.delete(key.as_str(), now);
        }
        self.store.tidy(1, now);
    }

    /// Forgets the copy of a key that this process itself writes or deletes.
    pub(super) fn forget(&self, key: &str) {
        self.pushes.fetch_add(1, Ordering::AcqRel);
        self.partition.delete(key, self.now());
    }

    /// Something is no longer true.
    pub(super) fn pushed(&self, pushed: &Invalidation) {
        self.pushes.fetch_add(1, Ordering::AcqRel);
        match pushed {
            Invalidation::Key(key) => drop(self.partition.delete(key, self.now())),
            Invalidation::Tag(tag) => drop(self.partition.invalidate_tag(tag)),
            Invalidation::All => drop(self.partition.clear()),
        }
    }

    /// Verax tells nothing any more.
    pub(super) fn lost(&self) {
        self.watched.store(false, Ordering::Release);
        self.pushed(&Invalidation::All);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn near() -> Near {
        let near = Near::new(NearCopies { bytes: 1 << 20, longest: Duration::from_secs(10) });
        near.watched.store(true, Ordering::Release);
        near
    }

    fn entry(tag: Option<&str>) -> Entry {
        let tags: Vec<verax_core::Tag> = tag.into_iter().map(Into::into).collect();
        Entry::new("v", "text/plain", Lifetime::default(), Timestamp::default()).with_tags(tags)
    }

    const FRESH: Duration = Duration::from_secs(60);

    #[test]
    fn pushes_drop_what_they_name() {
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
    fn a_value_asked_for_before_a_push_is_not_kept_after_it() {
        let near = near();
        let mark = near.mark();
        near.pushed(&Invalidation::Key("other".into()));
        near.keep("a", mark, FRESH, entry(None));
        assert!(near.get("a").is_none());
    }

    #[test]
    fn nothing_is_kept_or_served_without_a_watch() {
        let near = near();
        near.keep("a", near.mark(), FRESH, entry(None));
        near.lost();
        assert!(near.get("a").is_none());
        near.keep("a", near.mark(), FRESH, entry(None));
        near.watched.store(true, Ordering::Release);
        assert!(near.get("a").is_none());
    }

    #[test]
    fn memory_is_bounded() {
        let near = near();
        for n in 0..10_000 {
            let big = Entry::new(vec![0; 1_000], "a/b", Lifetime::default(), Timestamp::default());
            near.keep(&n.to_string(), near.mark(), FRESH, big);
        }
        assert!(near.store.used() <= 1 << 20);
    }
}
