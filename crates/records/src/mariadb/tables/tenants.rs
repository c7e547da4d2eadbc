//! Tenants.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use verax_core::{Name, TenantQuota, Timestamp};

use super::columns::{ReturningId, read_json, read_name, write_json};
use super::scopes::withdraw_scopes;
use super::tenant_ids::tenant_id;
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::tenants;
use crate::model::{Actor, TENANT_USED_BY, TenantRecord, quota_change, tenant_change};

impl MariaDb {
    /// All tenants, by name.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn tenants(&self) -> Result<Vec<TenantRecord>, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// Creates a tenant.
    ///
    /// # Errors
    /// [`RecordsError::Exists`], [`RecordsError::Unavailable`].
    pub(crate) async fn create_tenant(
        &self,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<TenantRecord>, RecordsError> {
        self.change(actor, now, async |connection| {
            let row = (tenants::name.eq(name.as_str()), tenants::created_at.eq(now.as_millis()));
            let row = diesel::insert_into(tenants::table).values(row);
            let id = ReturningId(row)
                .get_result(connection)
                .await
                .map_err(|e| RecordsError::of(format!("tenant {name}"), e, ""))?;
            let change = tenant_change("tenant.create", name);
            let quota = TenantQuota::default();
            Ok((TenantRecord { id, name: name.clone(), created_at: now, quota }, change))
        })
        .await
    }

    /// Replaces a tenant's quota.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::Unavailable`].
    pub(crate) async fn change_quota(
        &self,
        name: &Name,
        (before, quota): (&TenantQuota, &TenantQuota),
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let error = |e| RecordsError::of(format!("tenant {name}"), e, "");
        self.change(actor, now, async |connection| {
            let id = tenant_id(connection, name).await.map_err(error)?;
            let set = tenants::quota.eq(write_json(quota));
            diesel::update(tenants::table.find(id)).set(set).execute(connection).await?;
            Ok(((), quota_change(name, before, quota)))
        })
        .await
    }

    /// Deletes a tenant that has no namespaces and no origins. Its scopes are removed from all
    /// tokens, so that none of them opens a later tenant of the same name.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::InUse`], [`RecordsError::Unavailable`].
    pub(crate) async fn delete_tenant(
        &self,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let error = |e| RecordsError::of(format!("tenant {name}"), e, TENANT_USED_BY);
        self.change(actor, now, async |connection| {
            let id = tenant_id(connection, name).await.map_err(error)?;
            diesel::delete(tenants::table.find(id)).execute(connection).await.map_err(error)?;
            withdraw_scopes(connection, name.as_str(), now).await?;
            let change = tenant_change("tenant.delete", name);
            Ok(((), change))
        })
        .await
    }
}

/// All tenants, by name.
pub(crate) async fn load(
    connection: &mut AsyncMysqlConnection,
) -> Result<Vec<TenantRecord>, RecordsError> {
    let rows: Vec<(u64, String, u64, String)> =
        tenants::table.order(tenants::name).load(connection).await?;
    rows.into_iter()
        .map(|(id, name, at, quota)| {
            let created_at = Timestamp::from_millis(at);
            let quota = read_json(&format!("tenant {name}"), &quota)?;
            Ok(TenantRecord { id, name: read_name(name)?, created_at, quota })
        })
        .collect()
}
