//! The single write path: every change of an entry goes through here.
//!
//! A change of a key is made under the key's guard: the condition is checked, the value stored,
//! outdated permits voided, and the change numbered and published, all before any other caller can
//! see the key's permit. An invalidation therefore happens either before a refill is stored, and
//! voids its permit, or after it, and removes the entry.

use std::sync::MutexGuard;

use verax_core::guard::Refused;
use verax_core::{Key, Partition, PermitNumber, RefillTable, Timestamp, Voided};

use super::waiter::{WaitOutcome, Waiter, notify_all};
use crate::engine::Namespace;
use crate::events::{Change, ChangeKind, ChangeScope, Event};

/// The outcome of an attempt to change an entry.
pub(super) enum Attempt<T> {
    /// The entry changed.
    Changed(T),
    /// Nothing changed.
    Unchanged(T),
}

/// A key whose guard is held.
pub(super) struct Guarded<'a> {
    namespace: &'a Namespace,
    key: &'a Key,
    /// The shard of permits and waits that the key belongs to.
    pub(super) permits: MutexGuard<'a, RefillTable<Waiter>>,
    /// When the guard was acquired.
    pub(super) now: Timestamp,
}

impl Guarded<'_> {
    fn publish(&self, kind: ChangeKind) {
        self.namespace.publish(ChangeScope::Key(self.key), kind);
    }
}

impl Namespace {
    /// Acquires the guard of a key.
    pub(super) fn guard<'a>(&'a self, key: &'a Key) -> Guarded<'a> {
        let permits = self.engine().cache.guard(self.id(), key);
        // The clock is read after the guard is acquired, so that earlier changes have earlier
        // times.
        Guarded { namespace: self, key, permits, now: self.engine().now() }
    }

    /// Changes a key for a caller and voids the key's active refills. Callers waiting for one are
    /// notified with what `outcome_of` returns for the outcome.
    pub(super) fn change<T, E>(
        &self,
        key: &Key,
        kind: ChangeKind,
        make: impl FnOnce(&Partition, Timestamp) -> Result<Attempt<T>, E>,
        outcome_of: impl FnOnce(&T) -> WaitOutcome,
    ) -> Result<T, E> {
        let mut guarded = self.guard(key);
        // Only a change that took effect outdates what a refill is reading.
        let made = match make(self.partition(), guarded.now)? {
            Attempt::Unchanged(made) => return Ok(made),
            Attempt::Changed(made) => made,
        };
        // A new lifetime does not outdate the value.
        let voided = (kind != ChangeKind::Lifetime).then(|| guarded.permits.void(self.id(), key));
        guarded.publish(kind);
        drop(guarded);
        if let Some(voided) = voided.filter(|voided| !voided.waiters.is_empty()) {
            notify_all(voided.waiters, &outcome_of(&made));
        }
        Ok(made)
    }

    /// Ends a permit; its refill may change the key if the permit is still valid. Returns the
    /// outcome and the callers that waited.
    ///
    /// # Errors
    /// The permit has ended, so the key is unchanged; the error carries the callers that waited.
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

    /// Invalidates many keys: first every refill, which may be reading outdated values, then the
    /// entries.
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
    pub(crate) fn void_prefix(&self, prefix: &str) {
        let starts = |key: &Key| key.as_str().starts_with(prefix);
        let waiters = self.void_refills(|permits| permits.void_where(self.id(), starts));
        notify_all(waiters, &WaitOutcome::AskAgain);
    }

    /// Voids refills in all shards; returns the callers waiting for them.
    fn void_refills(
        &self,
        void: impl Fn(&mut RefillTable<Waiter>) -> Voided<Waiter>,
    ) -> Vec<Waiter> {
        self.engine().cache.guards().flat_map(|mut permits| void(&mut permits).waiters).collect()
    }

    /// Numbers and publishes a change, to near copies first because it outdates them.
    fn publish(&self, scope: ChangeScope<'_>, kind: ChangeKind) {
        let change = Change { scope, kind, revision: self.next_revision() };
        self.watchers().publish(&change);
        self.notify(&Event::Changed(change));
    }
}
