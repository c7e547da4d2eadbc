//! Namespaces and their policies.

use std::time::Duration;

use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde::{Deserialize, Serialize};
use serde_json::json;
use verax_core::content_schema::ContentSchema;
use verax_core::interval::IntervalRule;
use verax_core::lifetime::MAX_LIFETIME;
use verax_core::traffic::TrafficQuota;
use verax_core::{
    ContentRule, KeyPattern, Lifetime, Name, NamespaceId, NamespacePolicy, OriginBinding, Quota,
    Timestamp,
};

use super::columns::{millis, read_json, read_name, write_json};
use super::scopes::withdraw_scopes;
use super::tenant_ids::tenant_id;
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::{namespaces, origins, tenants};
use crate::model::{
    Actor, NamespaceRecord, cap_of, difference, namespace_change, new_namespace_id, policy_detail,
};

#[derive(Queryable)]
struct Row {
    id: u64,
    name: String,
    max_age_ms: u64,
    stale_while_revalidate_ms: u64,
    stale_if_error_ms: u64,
    max_value_bytes: u64,
    key_pattern: Option<String>,
    created_at: u64,
    reserve_bytes: u64,
    cap_bytes: Option<u64>,
    settings: String,
}

/// The newer parts of a policy, in one column.
#[derive(Serialize, Deserialize)]
#[serde(default)]
struct Settings {
    jitter_percent: u8,
    negative_max_age_ms: u64,
    early_refresh_percent: u16,
    write_through: bool,
    max_entries: u64,
    traffic: TrafficQuota,
    shortest_max_age_ms: u64,
    longest_max_age_ms: u64,
    content: ContentRule,
    schema: Option<ContentSchema>,
    compress_above: Option<u64>,
    bypass_until: Option<Timestamp>,
    intervals: Vec<IntervalRule>,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            jitter_percent: 0,
            negative_max_age_ms: 0,
            early_refresh_percent: 0,
            write_through: false,
            max_entries: u64::MAX,
            traffic: TrafficQuota::default(),
            shortest_max_age_ms: 0,
            longest_max_age_ms: millis(MAX_LIFETIME),
            content: ContentRule::Any,
            schema: None,
            compress_above: None,
            bypass_until: None,
            intervals: Vec::new(),
        }
    }
}

#[derive(Insertable, AsChangeset)]
#[diesel(table_name = namespaces, treat_none_as_null = true)]
struct PolicyColumns {
    max_age_ms: u64,
    stale_while_revalidate_ms: u64,
    stale_if_error_ms: u64,
    max_value_bytes: u64,
    origin_id: Option<u64>,
    key_pattern: Option<String>,
    reserve_bytes: u64,
    cap_bytes: Option<u64>,
    settings: String,
}

impl PolicyColumns {
    async fn of(
        connection: &mut AsyncMysqlConnection,
        tenant: u64,
        policy: &NamespacePolicy,
    ) -> Result<Self, Error> {
        let origin_id = match &policy.origin {
            Some(binding) => Some(
                origins::table
                    .filter(origins::tenant_id.eq(tenant))
                    .filter(origins::name.eq(binding.origin.as_str()))
                    .select(origins::id)
                    .first(connection)
                    .await?,
            ),
            None => None,
        };
        Ok(Self {
            max_age_ms: millis(policy.lifetime.max_age),
            stale_while_revalidate_ms: millis(policy.lifetime.stale_while_revalidate),
            stale_if_error_ms: millis(policy.lifetime.stale_if_error),
            max_value_bytes: policy.max_value_bytes,
            origin_id,
            key_pattern: policy.origin.as_ref().map(|o| o.key_pattern.to_string()),
            reserve_bytes: policy.quota.reserve,
            cap_bytes: cap_of(policy),
            settings: write_json(&Settings {
                jitter_percent: policy.jitter_percent,
                negative_max_age_ms: millis(policy.negative_max_age),
                early_refresh_percent: policy.early_refresh_percent,
                write_through: policy.write_through,
                max_entries: policy.quota.entries,
                traffic: policy.traffic,
                shortest_max_age_ms: millis(policy.shortest_max_age),
                longest_max_age_ms: millis(policy.longest_max_age),
                content: policy.content,
                schema: policy.schema.clone(),
                compress_above: policy.compress_above,
                bypass_until: policy.bypass_until,
                intervals: policy.intervals.clone(),
            }),
        })
    }
}

fn policy_of(row: &Row, origin: Option<String>) -> Result<NamespacePolicy, RecordsError> {
    let origin = match origin {
        Some(origin) => {
            let pattern = row.key_pattern.as_deref().unwrap_or("{key}");
            let key_pattern = KeyPattern::parse(pattern)
                .map_err(|e| RecordsError::Unreadable(format!("namespace {}: {e}", row.name)))?;
            Some(OriginBinding { origin: read_name(origin)?, key_pattern })
        }
        None => None,
    };
    let settings: Settings = read_json(&format!("namespace {}", row.name), &row.settings)?;
    Ok(NamespacePolicy {
        lifetime: Lifetime {
            max_age: Duration::from_millis(row.max_age_ms),
            stale_while_revalidate: Duration::from_millis(row.stale_while_revalidate_ms),
            stale_if_error: Duration::from_millis(row.stale_if_error_ms),
        },
        jitter_percent: settings.jitter_percent,
        max_value_bytes: row.max_value_bytes,
        quota: Quota {
            reserve: row.reserve_bytes,
            cap: row.cap_bytes.unwrap_or(u64::MAX),
            entries: settings.max_entries,
        },
        traffic: settings.traffic,
        shortest_max_age: Duration::from_millis(settings.shortest_max_age_ms),
        longest_max_age: Duration::from_millis(settings.longest_max_age_ms),
        content: settings.content,
        schema: settings.schema,
        compress_above: settings.compress_above,
        bypass_until: settings.bypass_until,
        intervals: settings.intervals,
        negative_max_age: Duration::from_millis(settings.negative_max_age_ms),
        early_refresh_percent: settings.early_refresh_percent,
        write_through: settings.write_through,
        origin,
    })
}

impl MariaDb {
    /// All namespaces, by tenant and name.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn namespaces(&self) -> Result<Vec<NamespaceRecord>, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// Creates a namespace of a tenant.
    ///
    /// # Errors
    /// [`RecordsError::Exists`], [`RecordsError::Missing`] (the tenant or the policy's origin),
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn create_namespace(
        &self,
        tenant: &Name,
        name: &Name,
        policy: &NamespacePolicy,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<NamespaceRecord>, RecordsError> {
        let id = new_namespace_id();
        self.change(actor, now, async |connection| {
            let (of_tenant, columns) = look_up(connection, tenant, policy).await?;
            let row = (
                namespaces::id.eq(id.0),
                namespaces::tenant_id.eq(of_tenant),
                namespaces::name.eq(name.as_str()),
                namespaces::created_at.eq(now.as_millis()),
                columns,
            );
            diesel::insert_into(namespaces::table)
                .values(row)
                .execute(connection)
                .await
                .map_err(|e| RecordsError::of(format!("namespace {tenant}/{name}"), e, ""))?;
            let change =
                namespace_change("namespace.create", (tenant, name), policy_detail(policy));
            let (tenant, name, policy) = (tenant.clone(), name.clone(), policy.clone());
            Ok((NamespaceRecord { id, tenant, name, policy, created_at: now }, change))
        })
        .await
    }

    /// Replaces a namespace's policy.
    ///
    /// # Errors
    /// [`RecordsError::Missing`] (the namespace or the policy's origin),
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn change_policy(
        &self,
        namespace: &NamespaceRecord,
        (before, policy): (&NamespacePolicy, &NamespacePolicy),
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let NamespaceRecord { id, tenant, name, .. } = namespace;
        let error = |e| RecordsError::of(format!("namespace {tenant}/{name}"), e, "");
        self.change(actor, now, async |connection| {
            let (_, columns) = look_up(connection, tenant, policy).await?;
            let found = namespaces::table.find(id.0).select(namespaces::id);
            found.first::<u64>(connection).await.map_err(error)?;
            diesel::update(namespaces::table.find(id.0)).set(columns).execute(connection).await?;
            let detail = difference(&policy_detail(before), &policy_detail(policy));
            Ok(((), namespace_change("namespace.change", (tenant, name), detail)))
        })
        .await
    }

    /// Deletes a namespace, and removes its scopes from all tokens.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::Unavailable`].
    pub(crate) async fn delete_namespace(
        &self,
        namespace: &NamespaceRecord,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let NamespaceRecord { id, tenant, name, .. } = namespace;
        self.change(actor, now, async |connection| {
            if diesel::delete(namespaces::table.find(id.0)).execute(connection).await? == 0 {
                return Err(RecordsError::Missing(format!("namespace {tenant}/{name}")));
            }
            withdraw_scopes(connection, &format!("{tenant}/{name}"), now).await?;
            Ok(((), namespace_change("namespace.delete", (tenant, name), json!({}))))
        })
        .await
    }
}

/// All namespaces, by tenant and name.
pub(crate) async fn load(
    connection: &mut AsyncMysqlConnection,
) -> Result<Vec<NamespaceRecord>, RecordsError> {
    let rows: Vec<(String, Option<String>, Row)> = namespaces::table
        .inner_join(tenants::table)
        .left_join(origins::table)
        .order((tenants::name, namespaces::name))
        .select((
            tenants::name,
            origins::name.nullable(),
            (
                namespaces::id,
                namespaces::name,
                namespaces::max_age_ms,
                namespaces::stale_while_revalidate_ms,
                namespaces::stale_if_error_ms,
                namespaces::max_value_bytes,
                namespaces::key_pattern,
                namespaces::created_at,
                namespaces::reserve_bytes,
                namespaces::cap_bytes,
                namespaces::settings,
            ),
        ))
        .load(connection)
        .await?;
    rows.into_iter()
        .map(|(tenant, origin, row)| {
            Ok(NamespaceRecord {
                id: NamespaceId(row.id),
                tenant: read_name(tenant)?,
                policy: policy_of(&row, origin)?,
                name: read_name(row.name)?,
                created_at: Timestamp::from_millis(row.created_at),
            })
        })
        .collect()
}

/// The tenant's identifier and the policy's columns; an error names what is missing.
async fn look_up(
    connection: &mut AsyncMysqlConnection,
    tenant: &Name,
    policy: &NamespacePolicy,
) -> Result<(u64, PolicyColumns), RecordsError> {
    let id = tenant_id(connection, tenant)
        .await
        .map_err(|e| RecordsError::of(format!("tenant {tenant}"), e, ""))?;
    let columns = PolicyColumns::of(connection, id, policy).await.map_err(|e| {
        let origin = policy.origin.as_ref().map_or("", |o| o.origin.as_str());
        RecordsError::of(format!("origin {tenant}/{origin}"), e, "")
    })?;
    Ok((id, columns))
}
