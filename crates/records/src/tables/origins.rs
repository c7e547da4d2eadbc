//! Origins of tenants.

use std::time::Duration;

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use serde_json::json;
use verax_core::{Name, OriginSettings, Timestamp};

use super::activity::{Actor, Change, write};
use super::tenants::tenant_id;
use super::{millis, new_id, read_name};
use crate::connection::{Records, bounded};
use crate::error::RecordsError;
use crate::schema::{origins, tenants};

/// An origin of a tenant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginRecord {
    /// Its identity.
    pub id: u64,
    /// The tenant that owns it.
    pub tenant: Name,
    /// Its name within the tenant.
    pub name: Name,
    /// How it is read.
    pub settings: OriginSettings,
    /// When it was created.
    pub created_at: Timestamp,
}

#[derive(Queryable)]
struct Row {
    id: u64,
    name: String,
    url: String,
    connect_timeout_ms: u64,
    total_timeout_ms: u64,
    largest_response: u64,
    created_at: u64,
}

impl Records {
    /// All origins, by tenant and name.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub async fn origins(&self) -> Result<Vec<OriginRecord>, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let rows: Vec<(String, Row)> = origins::table
                .inner_join(tenants::table)
                .order((tenants::name, origins::name))
                .select((
                    tenants::name,
                    (
                        origins::id,
                        origins::name,
                        origins::url,
                        origins::connect_timeout_ms,
                        origins::total_timeout_ms,
                        origins::largest_response,
                        origins::created_at,
                    ),
                ))
                .load(&mut connection)
                .await?;
            rows.into_iter()
                .map(|(tenant, row)| {
                    Ok(OriginRecord {
                        id: row.id,
                        tenant: read_name(tenant)?,
                        name: read_name(row.name)?,
                        settings: OriginSettings {
                            url: row.url,
                            connect_timeout: Duration::from_millis(row.connect_timeout_ms),
                            total_timeout: Duration::from_millis(row.total_timeout_ms),
                            largest_response: row.largest_response,
                        },
                        created_at: Timestamp::from_millis(row.created_at),
                    })
                })
                .collect()
        })
        .await
    }

    /// Creates an origin of a tenant.
    ///
    /// # Errors
    /// [`RecordsError::Exists`], [`RecordsError::Missing`] (the tenant),
    /// [`RecordsError::Unavailable`].
    pub async fn create_origin(
        &self,
        tenant: &Name,
        name: &Name,
        settings: &OriginSettings,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<OriginRecord, RecordsError> {
        let (records, actor, settings) = (self.clone(), actor.clone(), settings.clone());
        let (tenant, name) = (tenant.clone(), name.clone());
        bounded(async move {
            let mut connection = records.connection().await?;
            let of_tenant = tenant_id(&mut connection, &tenant)
                .await
                .map_err(|e| RecordsError::of(format!("tenant {tenant}"), e, ""))?;
            let created = connection.transaction(async |connection| {
                let row = (
                    origins::tenant_id.eq(of_tenant),
                    origins::name.eq(name.as_str()),
                    origins::url.eq(&settings.url),
                    origins::connect_timeout_ms.eq(millis(settings.connect_timeout)),
                    origins::total_timeout_ms.eq(millis(settings.total_timeout)),
                    origins::largest_response.eq(settings.largest_response),
                    origins::created_at.eq(now.as_millis()),
                );
                diesel::insert_into(origins::table).values(row).execute(connection).await?;
                let id = new_id(connection).await?;
                let change = Change {
                    tenant: Some(&tenant),
                    action: "origin.create",
                    subject: format!("{tenant}/{name}"),
                    detail: json!({ "url": settings.url }),
                };
                write(connection, &actor, now, &change).await?;
                Ok(id)
            });
            let subject = format!("origin {tenant}/{name}");
            let id = created.await.map_err(|e| RecordsError::of(subject, e, ""))?;
            Ok(OriginRecord { id, tenant, name, settings, created_at: now })
        })
        .await
    }

    /// Replaces an origin's settings.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::Unavailable`].
    pub async fn change_origin(
        &self,
        origin: &OriginRecord,
        settings: &OriginSettings,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<(), RecordsError> {
        let (records, actor, settings) = (self.clone(), actor.clone(), settings.clone());
        let (tenant, name, id) = (origin.tenant.clone(), origin.name.clone(), origin.id);
        bounded(async move {
            let mut connection = records.connection().await?;
            let changed = connection.transaction(async |connection| {
                origins::table.find(id).select(origins::id).first::<u64>(connection).await?;
                let columns = (
                    origins::url.eq(&settings.url),
                    origins::connect_timeout_ms.eq(millis(settings.connect_timeout)),
                    origins::total_timeout_ms.eq(millis(settings.total_timeout)),
                    origins::largest_response.eq(settings.largest_response),
                );
                diesel::update(origins::table.find(id)).set(columns).execute(connection).await?;
                let change = Change {
                    tenant: Some(&tenant),
                    action: "origin.change",
                    subject: format!("{tenant}/{name}"),
                    detail: json!({ "url": settings.url }),
                };
                write(connection, &actor, now, &change).await
            });
            let subject = format!("origin {tenant}/{name}");
            changed.await.map_err(|e| RecordsError::of(subject, e, ""))
        })
        .await
    }

    /// Removes an origin that no namespace is bound to.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::InUse`], [`RecordsError::Unavailable`].
    pub async fn delete_origin(
        &self,
        tenant: &Name,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<(), RecordsError> {
        let (records, actor) = (self.clone(), actor.clone());
        let (tenant, name) = (tenant.clone(), name.clone());
        bounded(async move {
            let mut connection = records.connection().await?;
            let removed = connection.transaction(async |connection| {
                let of_tenant = tenant_id(connection, &tenant).await?;
                let rows = origins::table
                    .filter(origins::tenant_id.eq(of_tenant))
                    .filter(origins::name.eq(name.as_str()));
                if diesel::delete(rows).execute(connection).await? == 0 {
                    return Err(diesel::result::Error::NotFound);
                }
                let change = Change {
                    tenant: Some(&tenant),
                    action: "origin.delete",
                    subject: format!("{tenant}/{name}"),
                    detail: json!({}),
                };
                write(connection, &actor, now, &change).await
            });
            let used_by = "a namespace reads through it; unbind or delete that first";
            let subject = format!("origin {tenant}/{name}");
            removed.await.map_err(|e| RecordsError::of(subject, e, used_by))
        })
        .await
    }
}
