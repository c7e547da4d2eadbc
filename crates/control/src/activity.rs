//! Activity, and the changes of which the records keep nothing else.

use std::ops::RangeInclusive;

use verax_api::{ActivityItem, moment};
use verax_core::access::{Right, Scope};
use verax_core::guard::lock::Holder;
use verax_core::{Key, Name};
use verax_records::{ActivityFilter, Change};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;

/// The maximum number of activity rows in one response.
pub const ROWS_OF_ACTIVITY: RangeInclusive<u32> = 1..=500;

impl Control {
    /// Removes every entry of a namespace and voids its refills; returns how many entries there
    /// were.
    ///
    /// # Errors
    /// [`ControlError`]: the scope or the namespace.
    pub async fn clear(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<u64, ControlError> {
        let clearer = self.open_clearer(caller, tenant, namespace)?;
        let entries = clearer.clear();
        self.mark_cleared(tenant, namespace, entries);
        let detail = serde_json::json!({ "entries": entries });
        self.note(caller, tenant, "namespace.clear", clearer.path(), detail).await;
        Ok(entries)
    }

    /// Removes the entries whose keys start with `prefix` and voids the refills of such keys;
    /// returns the number of entries removed.
    ///
    /// # Errors
    /// [`ControlError`]: the scope or the namespace.
    pub async fn clear_prefix(
        &self,
        caller: &Caller,
        (tenant, namespace): (&Name, &Name),
        prefix: &str,
    ) -> Result<u64, ControlError> {
        let clearer = self.open_clearer(caller, tenant, namespace)?;
        let entries = clearer.clear_prefix(prefix).await;
        self.mark_cleared(tenant, namespace, entries);
        let detail = serde_json::json!({ "entries": entries, "prefix": prefix });
        self.note(caller, tenant, "namespace.clear", clearer.path(), detail).await;
        Ok(entries)
    }

    fn mark_cleared(&self, tenant: &Name, namespace: &Name, entries: u64) {
        if let Ok(namespace) = self.registry.namespace(tenant, namespace) {
            self.mark_change(&namespace, format!("cleared: {entries} entries"));
        }
    }

    /// Forces a lock open, for managers of the namespace; returns the owner of the lease.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub async fn force_release_lock(
        &self,
        caller: &Caller,
        (tenant, namespace): (&Name, &Name),
        name: &Key,
    ) -> Result<Option<Holder>, ControlError> {
        let manager = self.open_manager(caller, tenant, namespace)?;
        let ended = manager.force_release_lock(name);
        if let Some(holder) = &ended {
            let (subject, token) = (format!("{} {name}", manager.path()), holder.token.number());
            let detail = serde_json::json!({ "owner": holder.owner, "fencing_token": token });
            self.note(caller, tenant, "lock.force-release", subject, detail).await;
        }
        Ok(ended)
    }

    async fn note(
        &self,
        caller: &Caller,
        tenant: &Name,
        action: &'static str,
        subject: String,
        detail: serde_json::Value,
    ) {
        self.note_for(caller, Some(tenant), action, subject, detail).await;
    }

    /// Records an activity, of a tenant or of the whole service. The change itself stands even if
    /// this fails.
    pub(crate) async fn note_for(
        &self,
        caller: &Caller,
        tenant: Option<&Name>,
        action: &'static str,
        subject: String,
        detail: serde_json::Value,
    ) {
        let change = Change { tenant: tenant.cloned(), action, subject, detail };
        let (actor, now) = (caller.actor(), self.engine.now());
        if let Err(error) = self.records.note(&actor, now, change).await {
            tracing::warn!(%error, action, "an action is missing in the activity");
        }
    }

    /// Lists who changed what, newest first. A tenant's managers see their tenant's changes.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the number of rows, or the records.
    pub async fn activity(
        &self,
        caller: &Caller,
        filter: &ActivityFilter,
    ) -> Result<Vec<ActivityItem>, ControlError> {
        match &filter.tenant {
            Some(tenant) => caller.needs(Scope::tenant(Right::Manage, tenant))?,
            None => caller.needs(Scope::Admin)?,
        }
        if !ROWS_OF_ACTIVITY.contains(&filter.most) {
            return Err(InvalidInput::OutOfRange {
                what: "the limit of rows",
                value: filter.most,
                range: ROWS_OF_ACTIVITY,
            }
            .into());
        }
        let rows = self.records.activity(filter).await?;
        let item = |row: verax_records::Activity| ActivityItem {
            id: row.id,
            at: moment(row.at),
            actor: row.actor,
            tenant: row.tenant,
            action: row.action,
            subject: row.subject,
            detail: row.detail,
        };
        Ok(rows.into_iter().map(item).collect())
    }
}
