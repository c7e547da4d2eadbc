//! What tenants define.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::Value;
use verax_core::{Name, Timestamp};

use super::columns::{ReturningId, read_json, read_name, write_json};
use super::tenant_ids::tenant_id;
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::{definitions, tenants};
use crate::model::{Actor, DefinitionKind, DefinitionPath, DefinitionRecord};

type Row = (u64, String, String, String, u64, u64);

fn read(row: Row) -> Result<DefinitionRecord, RecordsError> {
    let (id, tenant, name, content, created_at, changed_at) = row;
    Ok(DefinitionRecord {
        id,
        content: read_json(&format!("the definition {tenant}/{name}"), &content)?,
        tenant: read_name(tenant)?,
        name: read_name(name)?,
        created_at: Timestamp::from_millis(created_at),
        changed_at: Timestamp::from_millis(changed_at),
    })
}

/// The identifier and content of a definition, within a transaction.
async fn find(
    connection: &mut AsyncMysqlConnection,
    tenant: u64,
    path: &DefinitionPath,
) -> Result<Option<(u64, Value, u64)>, RecordsError> {
    let row: Option<(u64, String, u64)> = definitions::table
        .filter(definitions::kind.eq(path.kind.name()))
        .filter(definitions::tenant_id.eq(tenant))
        .filter(definitions::name.eq(path.name.as_str()))
        .select((definitions::id, definitions::content, definitions::created_at))
        .first(connection)
        .await
        .optional()?;
    row.map(|(id, content, at)| Ok((id, read_json("a definition", &content)?, at))).transpose()
}

impl MariaDb {
    /// The definitions of a kind, by name; of one tenant or of all.
    pub(crate) async fn definitions(
        &self,
        kind: DefinitionKind,
        tenant: Option<&Name>,
    ) -> Result<Vec<DefinitionRecord>, RecordsError> {
        let columns = (
            definitions::id,
            tenants::name,
            definitions::name,
            definitions::content,
            definitions::created_at,
            definitions::changed_at,
        );
        self.exchange(async |connection| {
            let mut query = definitions::table
                .inner_join(tenants::table)
                .filter(definitions::kind.eq(kind.name()))
                .select(columns)
                .order((tenants::name, definitions::name))
                .into_boxed();
            if let Some(tenant) = tenant {
                query = query.filter(tenants::name.eq(tenant.as_str()));
            }
            let rows: Vec<Row> = query.load(connection).await?;
            rows.into_iter().map(read).collect()
        })
        .await
    }

    /// Creates or replaces a definition.
    pub(crate) async fn put_definition(
        &self,
        path: &DefinitionPath,
        content: &Value,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<DefinitionRecord>, RecordsError> {
        self.change(actor, now, async |connection| {
            let tenant = tenant_id(connection, &path.tenant)
                .await
                .map_err(|e| RecordsError::of(format!("tenant {}", path.tenant), e, ""))?;
            let before = find(connection, tenant, path).await?;
            let (id, created_at) = match &before {
                Some((id, _, created_at)) => {
                    let columns = (
                        definitions::content.eq(write_json(content)),
                        definitions::changed_at.eq(now.as_millis()),
                    );
                    let row = definitions::table.find(*id);
                    diesel::update(row).set(columns).execute(connection).await?;
                    (*id, Timestamp::from_millis(*created_at))
                }
                None => {
                    let row = (
                        definitions::kind.eq(path.kind.name()),
                        definitions::tenant_id.eq(tenant),
                        definitions::name.eq(path.name.as_str()),
                        definitions::content.eq(write_json(content)),
                        definitions::created_at.eq(now.as_millis()),
                        definitions::changed_at.eq(now.as_millis()),
                    );
                    let row = diesel::insert_into(definitions::table).values(row);
                    (ReturningId(row).get_result(connection).await?, now)
                }
            };
            let change = path.change(before.as_ref().map(|(_, before, _)| before), Some(content));
            let record = DefinitionRecord {
                id,
                tenant: path.tenant.clone(),
                name: path.name.clone(),
                content: content.clone(),
                created_at,
                changed_at: now,
            };
            Ok((record, change))
        })
        .await
    }

    /// Deletes a definition.
    pub(crate) async fn delete_definition(
        &self,
        path: &DefinitionPath,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, async |connection| {
            let tenant = tenant_id(connection, &path.tenant)
                .await
                .map_err(|e| RecordsError::of(format!("tenant {}", path.tenant), e, ""))?;
            let (id, before, _) =
                find(connection, tenant, path).await?.ok_or_else(|| path.missing())?;
            diesel::delete(definitions::table.find(id)).execute(connection).await?;
            Ok(((), path.change(Some(&before), None)))
        })
        .await
    }
}
