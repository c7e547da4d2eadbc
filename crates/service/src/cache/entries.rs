//! Storing, deleting, listing and clearing entries.

use std::sync::Arc;

use bytes::Bytes;
use verax_api::{EntryPage, EntrySummary};
use verax_core::entry::{Entry, Tag};
use verax_core::lifetime::CacheControl;
use verax_core::store::{Listed, PutError};
use verax_core::{Freshness, Key, Name, PutCondition, Timestamp};
use verax_records::Change;

use crate::access::{Caller, Right, Scope};
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
    pub media_type: String,
    /// The lifetime asked for; absent parts come from the namespace's policy.
    pub cache_control: CacheControl,
    /// Its tags.
    pub tags: Vec<Tag>,
    /// What must hold for it to be stored.
    pub condition: PutCondition,
}

impl Service {
    /// The largest value that a caller may store in a namespace, so that a transport can refuse a
    /// larger one before it has read it.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope or the namespace.
    pub fn largest_value(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<u64, ServiceError> {
        caller.needs_within(Right::Write, tenant, namespace)?;
        Ok(self.registry.namespace(tenant, namespace)?.binding().policy.largest_value)
    }

    /// Stores a value; a refill of the key that is under way will not overwrite it. Returns the entry,
    /// and whether it replaced one.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope, the namespace, the size, or the condition.
    pub fn put(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
        key: &Key,
        request: PutRequest,
    ) -> Result<(Entry, bool), ServiceError> {
        caller.needs_within(Right::Write, tenant, namespace)?;
        let namespace = self.registry.namespace(tenant, namespace)?;
        let binding = namespace.binding();
        let (size, limit) = (request.value.len() as u64, binding.policy.largest_value);
        if size > limit {
            let namespace = namespace.path();
            return Err(ServiceError::ValueTooLarge { size, limit, namespace });
        }
        let now = self.clock.now();
        let lifetime = request.cache_control.lifetime_or(binding.policy.lifetime);
        let entry =
            Entry::new(request.value, request.media_type, lifetime, now).with_tags(request.tags);
        let mut guard = self.cache.guard(namespace.id(), key);
        let put = self.cache.store.put(namespace.id(), key, entry.clone(), request.condition, now);
        let replaced = put.map_err(|error| match error {
            PutError::ConditionFailed => ServiceError::ConditionFailed,
            PutError::TooLarge { .. } => ServiceError::DoesNotFit(error),
        })?;
        // Only a write that happened makes what the origin said meanwhile old.
        guard.void(namespace.id(), key);
        drop(guard);
        count(&namespace.counters().puts);
        Ok((entry, replaced))
    }

    /// Deletes an entry; a refill of it that is under way will not be stored. Returns whether there
    /// was one.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope or the namespace.
    pub fn delete(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
        key: &Key,
    ) -> Result<bool, ServiceError> {
        caller.needs_within(Right::Write, tenant, namespace)?;
        let namespace = self.registry.namespace(tenant, namespace)?;
        let mut guard = self.cache.guard(namespace.id(), key);
        guard.void(namespace.id(), key);
        let deleted = self.cache.store.delete(namespace.id(), key, self.clock.now());
        drop(guard);
        count(&namespace.counters().deletes);
        Ok(deleted)
    }

    /// Lists the entries of a namespace whose keys start with `prefix`, from after the key `after`.
    /// The page's cursor is the key to go on after.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope, the namespace, or a page of no or too many entries.
    pub fn list(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
        prefix: &str,
        after: Option<&str>,
        most: usize,
    ) -> Result<EntryPage, ServiceError> {
        caller.needs_within(Right::Read, tenant, namespace)?;
        if most == 0 || most > LARGEST_PAGE {
            return Err(ServiceError::Invalid(format!(
                "a page of {most} entries is out of range: use 1 to {LARGEST_PAGE}"
            )));
        }
        let namespace = self.registry.namespace(tenant, namespace)?;
        let now = self.clock.now();
        let listing = self.cache.store.list(namespace.id(), prefix, after, most, now);
        let items: Vec<_> = listing.entries.iter().map(|listed| summary(listed, now)).collect();
        let cursor = items.last().filter(|_| listing.more).map(|last| last.key.clone());
        Ok(EntryPage { items, cursor })
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
        caller.needs(Scope::within(Right::Manage, tenant, namespace))?;
        let namespace = self.registry.namespace(tenant, namespace)?;
        let entries = self.empty(&namespace);
        let change = Change {
            tenant: Some(namespace.tenant()),
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

    /// Voids a namespace's refills and removes its entries, shard by shard.
    pub(crate) fn empty(&self, namespace: &Arc<Namespace>) -> u64 {
        for mut guard in self.cache.guards() {
            guard.void_namespace(namespace.id());
        }
        self.cache.store.clear(namespace.id())
    }
}

fn summary(listed: &Listed, now: Timestamp) -> EntrySummary {
    let entry = &listed.entry;
    EntrySummary {
        key: listed.key.to_string(),
        value_bytes: entry.value.len() as u64,
        memory_bytes: listed.size,
        media_type: entry.media_type.to_string(),
        entity_tag: entry.entity_tag.to_string(),
        tags: entry.tags.iter().map(|t| t.to_string()).collect(),
        age_seconds: now.since(entry.stored_at).as_secs_f64(),
        time_left_seconds: match listed.freshness {
            Freshness::Fresh(left) => left.as_secs_f64(),
            Freshness::Stale(since) | Freshness::OnlyOnError(since) => -since.as_secs_f64(),
            Freshness::Ended => 0.0,
        },
    }
}
