//! Storing, changing, deleting, listing and clearing entries.

use std::time::Duration;

use bytes::Bytes;
use verax_api::{EntryPage, EntrySummary};
use verax_core::entry::{Entry, MediaType, NEGATIVE_TYPE, Tag};
use verax_core::lifetime::CacheControl;
use verax_core::store::{Listed, Position, PutError};
use verax_core::{Found, Freshness, Key, Name, Precondition, Timestamp, Voided};
use verax_records::Change;

use super::Refilled;
use super::invalidation::Invalidation;
use super::waiter::{Told, Waiter};
use crate::access::{Caller, Right};
use crate::error::ServiceError;
use crate::namespace::{Namespace, count};
use crate::service::Service;

/// The most entries on one page of a listing.
pub(crate) const LARGEST_PAGE: usize = 1_000;

/// A value to store.
#[derive(Debug, Clone)]
pub struct PutRequest {
    /// The value's bytes.
    pub value: Bytes,
    /// Its media type.
    pub media_type: MediaType,
    /// The lifetime asked for; absent parts come from the namespace's policy.
    pub cache_control: CacheControl,
    /// Its tags.
    pub tags: Vec<Tag>,
    /// What must hold for it to be stored.
    pub condition: Precondition,
}

impl Namespace {
    /// The entry that a request makes at `now`.
    ///
    /// # Errors
    /// [`ServiceError::ValueTooLarge`], or a negative result that has a value.
    pub(super) fn entry_of(
        &self,
        request: PutRequest,
        now: Timestamp,
    ) -> Result<Entry, ServiceError> {
        let (size, limit) = (request.value.len() as u64, self.largest_value());
        if size > limit {
            let namespace = self.path();
            return Err(ServiceError::ValueTooLarge { size, limit, namespace });
        }
        if request.media_type.as_str() == NEGATIVE_TYPE {
            if size > 0 {
                return Err(ServiceError::Invalid(format!(
                    "a value of the type {NEGATIVE_TYPE} says that there is no value: send it empty"
                )));
            }
            let usual = self.binding().policy.negative_max_age;
            let usual = if usual.is_zero() { self.lifetime().max_age } else { usual };
            let max_age = request.cache_control.max_age.unwrap_or(usual);
            return Ok(Entry::negative(max_age, now).with_tags(request.tags));
        }
        let lifetime = request.cache_control.lifetime_or(self.lifetime());
        Ok(Entry::new(request.value, request.media_type, lifetime, now).with_tags(request.tags))
    }
}

impl Service {
    /// Stores a value; a refill of the key that is under way will not overwrite it. Returns the entry,
    /// and whether it replaced one.
    ///
    /// # Errors
    /// [`ServiceError`]: the size, or the condition.
    pub fn put(
        &self,
        namespace: &Namespace,
        key: &Key,
        request: PutRequest,
    ) -> Result<(Entry, bool), ServiceError> {
        let (now, condition) = (self.clock.now(), request.condition.clone());
        let entry = namespace.entry_of(request, now)?;
        let mut guard = self.cache.guard(namespace.id(), key);
        let put = namespace.partition().put(key, &entry, condition, now);
        let replaced = put.map_err(|error| match error {
            PutError::ConditionFailed => ServiceError::ConditionFailed,
            PutError::TooLarge { .. } => ServiceError::DoesNotFit(error),
        })?;
        // Only a write that happened makes what the origin said meanwhile old.
        let voided = guard.void(namespace.id(), key);
        drop(guard);
        // Those who wait for another caller's value have this one, which is newer.
        let (stored, origin_took) = (true, Duration::ZERO);
        let refilled = Refilled { entry: entry.clone(), stored, origin_took };
        self.voided(voided, &Told::Refilled(refilled));
        self.tell(namespace, Invalidation::Key(key));
        count(&namespace.counters().puts);
        Ok((entry, replaced))
    }

    /// Deletes an entry; a refill of it that is under way will not be stored. Returns whether there
    /// was one.
    pub fn delete(&self, namespace: &Namespace, key: &Key) -> bool {
        // Without a condition there is nothing that fails.
        self.delete_if(namespace, key, &Precondition::Always).unwrap_or(false)
    }

    /// [`delete`](Self::delete) where a condition holds of the entry that is there.
    ///
    /// # Errors
    /// [`ServiceError::ConditionFailed`]; nothing was changed.
    pub fn delete_if(
        &self,
        namespace: &Namespace,
        key: &Key,
        condition: &Precondition,
    ) -> Result<bool, ServiceError> {
        let mut guard = self.cache.guard(namespace.id(), key);
        let deleted = namespace.partition().delete_if(key.as_str(), condition, self.clock.now());
        let deleted = deleted.map_err(|_| ServiceError::ConditionFailed)?;
        let voided = guard.void(namespace.id(), key);
        drop(guard);
        self.voided(voided, &Told::AskAgain);
        self.tell(namespace, Invalidation::Key(key));
        count(&namespace.counters().deletes);
        Ok(deleted)
    }

    /// Gives an entry another lifetime, counted from now; parts that `cache_control` leaves out come
    /// from the namespace's policy. Returns the entry as it is then; `None` when there is none.
    ///
    /// # Errors
    /// [`ServiceError::ConditionFailed`]; nothing was changed.
    pub fn set_lifetime(
        &self,
        namespace: &Namespace,
        key: &Key,
        cache_control: CacheControl,
        condition: &Precondition,
    ) -> Result<Option<Found>, ServiceError> {
        let (lifetime, now) = (cache_control.lifetime_or(namespace.lifetime()), self.clock.now());
        let found = namespace.partition().set_lifetime_if(key.as_str(), lifetime, condition, now);
        let found = found.map_err(|_| ServiceError::ConditionFailed)?;
        // A near copy would keep to the lifetime it came with.
        self.tell(namespace, Invalidation::Key(key));
        Ok(found)
    }

    /// Ends every entry that carries a tag, and voids the namespace's refills: what they bring may
    /// carry it. Returns whether any entry may have carried it.
    pub fn invalidate_tag(&self, namespace: &Namespace, tag: &str) -> bool {
        let waiters = self.void_refills(namespace, |_| true);
        let known = namespace.partition().invalidate_tag(tag);
        self.voided(waiters, &Told::AskAgain);
        self.tell(namespace, Invalidation::Tag(tag));
        known
    }

    /// Lists the entries of a namespace whose keys start with `prefix`, from a position on, which the
    /// page before gave as its cursor.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`]: a page of no or too many entries.
    pub fn list(
        &self,
        namespace: &Namespace,
        prefix: &str,
        from: Position,
        most: usize,
    ) -> Result<EntryPage, ServiceError> {
        if most == 0 || most > LARGEST_PAGE {
            return Err(ServiceError::Invalid(format!(
                "a page of {most} entries is out of range: use 1 to {LARGEST_PAGE}"
            )));
        }
        let now = self.clock.now();
        let listing = namespace.partition().list(prefix, from, most, now);
        let items = listing.entries.iter().map(|listed| summary(listed, now)).collect();
        Ok(EntryPage { items, cursor: listing.next.map(|next| next.to_string()) })
    }

    /// One entry as a listing shows it, without counting as a request for it; `None` when there is
    /// none.
    pub fn show(&self, namespace: &Namespace, key: &Key) -> Option<EntrySummary> {
        let now = self.clock.now();
        let listed = namespace.partition().show(key.as_str(), now)?;
        Some(summary(&listed, now))
    }

    /// Removes every entry of a namespace and voids its refills; returns how many entries there were.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope or the namespace.
    pub async fn clear(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<u64, ServiceError> {
        let namespace = self.open(caller, Right::Manage, tenant, namespace)?;
        let entries = self.empty(&namespace);
        let change = Change {
            tenant: Some(namespace.tenant().clone()),
            action: "namespace.clear",
            subject: namespace.path(),
            detail: serde_json::json!({ "entries": entries }),
        };
        // The clear has happened whether or not it can be written down.
        if let Err(error) = self.records.note(&caller.actor(), self.clock.now(), change).await {
            tracing::warn!(%error, namespace = %namespace.path(), "a clear is missing in the activity");
        }
        Ok(entries)
    }

    /// Removes the entries whose keys start with `prefix`, and voids the refills of such keys; returns
    /// how many entries there were.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope or the namespace.
    pub async fn clear_prefix(
        &self,
        caller: &Caller,
        (tenant, namespace): (&Name, &Name),
        prefix: &str,
    ) -> Result<u64, ServiceError> {
        let namespace = self.open(caller, Right::Manage, tenant, namespace)?;
        let waiters = self.void_refills(&namespace, |key| key.as_str().starts_with(prefix));
        let (mut entries, mut from) = (0, Some(Position::default()));
        while let Some(position) = from {
            let listing =
                namespace.partition().list(prefix, position, LARGEST_PAGE, self.clock.now());
            for listed in &listing.entries {
                let key = listed.found.key();
                entries += u64::from(namespace.partition().delete(key, self.clock.now()));
                if let Ok(key) = Key::new(key) {
                    self.tell(&namespace, Invalidation::Key(&key));
                }
            }
            from = listing.next;
            // A large namespace must not hold others up.
            tokio::task::yield_now().await;
        }
        self.voided(waiters, &Told::AskAgain);
        let change = Change {
            tenant: Some(namespace.tenant().clone()),
            action: "namespace.clear",
            subject: namespace.path(),
            detail: serde_json::json!({ "entries": entries, "prefix": prefix }),
        };
        if let Err(error) = self.records.note(&caller.actor(), self.clock.now(), change).await {
            tracing::warn!(%error, namespace = %namespace.path(), "a clear is missing in the activity");
        }
        Ok(entries)
    }

    /// Voids a namespace's refills and removes its entries.
    pub(crate) fn empty(&self, namespace: &Namespace) -> u64 {
        let waiters = self.void_refills(namespace, |_| true);
        let entries = namespace.partition().clear();
        self.voided(waiters, &Told::AskAgain);
        self.tell(namespace, Invalidation::All);
        entries
    }

    /// Voids the refills of all keys that `which` holds for; returns who waited for them and must be
    /// told once the entries are gone.
    fn void_refills(&self, namespace: &Namespace, which: impl Fn(&Key) -> bool) -> Voided<Waiter> {
        let mut all = Voided { permits: 0, waiters: Vec::new() };
        for mut guard in self.cache.guards() {
            let voided = guard.void_where(namespace.id(), &which);
            all.permits += voided.permits;
            all.waiters.extend(voided.waiters);
        }
        all
    }
}

fn summary(listed: &Listed, now: Timestamp) -> EntrySummary {
    let found = &listed.found;
    EntrySummary {
        key: found.key().to_owned(),
        value_bytes: found.value().len() as u64,
        memory_bytes: listed.size,
        media_type: found.media_type().to_string(),
        entity_tag: found.entity_tag().to_string(),
        tags: found.tags().iter().map(|t| t.to_string()).collect(),
        age_seconds: now.since(found.stored_at()).as_secs_f64(),
        time_left_seconds: match found.freshness() {
            Freshness::Fresh(left) => left.as_secs_f64(),
            Freshness::Stale(since) | Freshness::OnlyOnError(since) => -since.as_secs_f64(),
            Freshness::Ended => 0.0,
        },
    }
}
