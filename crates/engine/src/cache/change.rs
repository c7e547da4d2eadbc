//! The one way by which what is stored changes.
//!
//! A change of a key is made under the key's guard: the condition is checked, the value stored, the
//! permits that this makes old are voided, and the change is numbered and told, all before anybody
//! else can look at the key's permit. So an invalidation comes either before a refill is stored,
//! and voids its permit, or after it, and removes the entry.

use std::sync::MutexGuard;

use verax_core::guard::Refused;
use verax_core::{Key, Partition, PermitNumber, RefillTable, Timestamp, Voided};

use super::waiter::{WaitOutcome, Waiter, notify_all};
use crate::engine::Namespace;
use crate::events::{Change, ChangeKind, ChangeScope, Event};

/// What became of a try to change something.
pub(super) enum Attempt<T> {
    /// It changed what is stored.
    Changed(T),
    /// It left everything as it was.
    Unchanged(T),
}

/// A key whose guard is held.
pub(super) struct Guarded<'a> {
    namespace: &'a Namespace,
    key: &'a Key,
    /// The permits and waits of the key, among others.
    pub(super) permits: MutexGuard<'a, RefillTable<Waiter>>,
    /// The time since when it is held.
    pub(super) now: Timestamp,
}

impl Guarded<'_> {
    fn publish(&self, kind: ChangeKind) {
        self.namespace.publish(ChangeScope::Key(self.key), kind);
    }
}

impl Namespace {
    /// Takes the guard of a key.
    pub(super) fn guard<'a>(&'a self, key: &'a Key) -> Guarded<'a> {
        let permits = self.engine().cache.guard(self.id(), key);
        // The time is looked up after the wait for the guard: what was done before has an earlier
        // one.
        Guarded { namespace: self, key, permits, now: self.engine().now() }
    }

    /// Changes a key for a caller. Refills of it that are under way are void then: those who wait
    /// for one are told what `told` makes of the outcome.
    pub(super) fn change<T, E>(
        &self,
        key: &Key,
        kind: ChangeKind,
        make: impl FnOnce(&Partition, Timestamp) -> Result<Attempt<T>, E>,
        told: impl FnOnce(&T) -> WaitOutcome,
    ) -> Result<T, E> {
        let mut guarded = self.guard(key);
        // Only a change that happened makes what the origin said meanwhile old.
        let made = match make(self.partition(), guarded.now)? {
            Attempt::Unchanged(made) => return Ok(made),
            Attempt::Changed(made) => made,
        };
        // Another lifetime makes no value old.
        let voided = (kind != ChangeKind::Lifetime).then(|| guarded.permits.void(self.id(), key));
        guarded.publish(kind);
        drop(guarded);
        if let Some(voided) = voided.filter(|voided| !voided.waiters.is_empty()) {
            notify_all(voided.waiters, &told(&made));
        }
        Ok(made)
    }

    /// Ends a permit, whose refill may change the key if the permit still stands. Returns what was
    /// made of that, and those who wait for it.
    ///
    /// # Errors
    /// The permit is over, which leaves the key as it is; those who waited for it are in the error.
    pub(super) fn finish<T>(
        &self,
        key: &Key,
        permit: PermitNumber,
        make: impl FnOnce(&Partition, Timestamp) -> Attempt<T>,
    ) -> Result<(T, Vec<Waiter>), Refused<Waiter>> {
        let mut guarded = self.guard(key);
        let now = guarded.now;
        let waiters = guarded.permits.finish(self.id(), key, permit, now).inspect_err(|_| {
            self.notify(&Event::RefillRefused);
        })?;
        let made = match make(self.partition(), guarded.now) {
            Attempt::Unchanged(made) => made,
            Attempt::Changed(made) => {
                guarded.publish(ChangeKind::Refill);
                made
            }
        };
        Ok((made, waiters))
    }

    /// Invalidates many keys: all refills first, since what those bring may be old, and then what
    /// is stored.
    pub(super) fn invalidate<T>(
        &self,
        scope: ChangeScope<'_>,
        make: impl FnOnce(&Partition) -> T,
    ) -> T {
        let waiters = self.void_refills(|permits| permits.void_all(self.id()));
        let made = make(self.partition());
        self.publish(scope, ChangeKind::Invalidate);
        notify_all(waiters, &WaitOutcome::AskAgain);
        made
    }

    /// Voids the refills of the keys that start with a prefix, whose entries are about to go.
    pub(super) fn void_prefix(&self, prefix: &str) {
        let starts = |key: &Key| key.as_str().starts_with(prefix);
        let waiters = self.void_refills(|permits| permits.void_where(self.id(), starts));
        notify_all(waiters, &WaitOutcome::AskAgain);
    }

    /// Voids refills in all shards; returns those who wait for them.
    fn void_refills(
        &self,
        void: impl Fn(&mut RefillTable<Waiter>) -> Voided<Waiter>,
    ) -> Vec<Waiter> {
        self.engine().cache.guards().flat_map(|mut permits| void(&mut permits).waiters).collect()
    }

    /// Numbers a change and tells of it: near copies first, which it makes old.
    fn publish(&self, scope: ChangeScope<'_>, kind: ChangeKind) {
        let change = Change { scope, kind, revision: self.next_revision() };
        self.watchers().publish(&change);
        self.notify(&Event::Changed(change));
    }
}
