//! Tenants.

use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl};
use serde::{Deserialize, Serialize};
use serde_json::json;
use verax_core::{Name, Timestamp};

use super::activity::{Actor, Change, write};
use super::{new_id, read_name};
use crate::connection::{Records, bounded};
use crate::error::RecordsError;
use crate::schema::tenants;

/// A tenant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TenantRecord {
    /// Its identity.
    pub id: u64,
    /// Its name.
    pub name: Name,
    /// When it was created.
    pub created_at: Timestamp,
}

/// The identity of a tenant, within a transaction.
pub(super) async fn tenant_id(
    connection: &mut AsyncMysqlConnection,
    name: &Name,
) -> Result<u64, Error> {
    tenants::table
        .filter(tenants::name.eq(name.as_str()))
        .select(tenants::id)
        .first(connection)
        .await
}

impl Records {
    /// All tenants, by name.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn tenants(&self) -> Result<Vec<TenantRecord>, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let rows: Vec<(u64, String, u64)> =
                tenants::table.order(tenants::name).load(&mut connection).await?;
            rows.into_iter()
                .map(|(id, name, at)| {
                    let created_at = Timestamp::from_millis(at);
                    Ok(TenantRecord { id, name: read_name(name)?, created_at })
                })
                .collect()
        })
        .await
    }

    /// Creates a tenant.
    ///
    /// # Errors
    /// [`RecordsError::Exists`], [`RecordsError::Unavailable`].
    pub async fn create_tenant(
        &self,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<TenantRecord, RecordsError> {
        let (records, name, actor) = (self.clone(), name.clone(), actor.clone());
        bounded(async move {
            let mut connection = records.connection().await?;
            let created = connection.transaction(async |connection| {
                let row =
                    (tenants::name.eq(name.as_str()), tenants::created_at.eq(now.as_millis()));
                diesel::insert_into(tenants::table).values(row).execute(connection).await?;
                let id = new_id(connection).await?;
                let change = Change {
                    tenant: Some(&name),
                    action: "tenant.create",
                    subject: name.to_string(),
                    detail: json!({}),
                };
                write(connection, &actor, now, &change).await?;
                Ok(id)
            });
            let id =
                created.await.map_err(|e| RecordsError::of(format!("tenant {name}"), e, ""))?;
            Ok(TenantRecord { id, name, created_at: now })
        })
        .await
    }

    /// Removes a tenant that has no namespaces and no origins.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::InUse`], [`RecordsError::Unavailable`].
    pub async fn delete_tenant(
        &self,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<(), RecordsError> {
        let (records, name, actor) = (self.clone(), name.clone(), actor.clone());
        bounded(async move {
            let mut connection = records.connection().await?;
            let removed = connection.transaction(async |connection| {
                let id = tenant_id(connection, &name).await?;
                diesel::delete(tenants::table.find(id)).execute(connection).await?;
                let change = Change {
                    tenant: Some(&name),
                    action: "tenant.delete",
                    subject: name.to_string(),
                    detail: json!({}),
                };
                write(connection, &actor, now, &change).await
            });
            let used_by = "it owns namespaces or origins; delete those first";
            removed.await.map_err(|e| RecordsError::of(format!("tenant {name}"), e, used_by))
        })
        .await
    }
}
