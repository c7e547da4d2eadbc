//! Origins of tenants.

use std::time::Duration;

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde::{Deserialize, Serialize};
use serde_json::json;
use verax_core::origin::{Balance, OriginGuard, OriginSource, SqlResult};
use verax_core::{Name, OriginSettings, Timestamp};

use super::columns::{ReturningId, millis, read_json, read_name, write_json};
use super::tenant_ids::tenant_id;
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::{origins, tenants};
use crate::model::{
    Actor, ORIGIN_USED_BY, OriginRecord, difference, origin_change, settings_detail,
};

#[derive(Queryable, Selectable)]
#[diesel(table_name = origins, check_for_backend(diesel::mysql::Mysql))]
struct Row {
    id: u64,
    name: String,
    created_at: u64,
    #[diesel(embed)]
    settings: SettingsColumns,
}

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = origins, treat_none_as_null = true, check_for_backend(diesel::mysql::Mysql))]
struct SettingsColumns {
    url: String,
    connect_timeout_ms: u64,
    total_timeout_ms: u64,
    max_response_bytes: u64,
    query: Option<String>,
    credential: Option<String>,
    settings: String,
}

/// The JSON of the column `settings`.
#[derive(Serialize, Deserialize)]
#[serde(default)]
struct More {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    endpoints: Vec<String>,
    least_outstanding: bool,
    slow_after_ms: Option<u64>,
    one_row: bool,
    max_rows: u32,
    max_concurrency: u32,
    max_queue: u32,
    retry_budget_percent: u8,
    failure_threshold: u32,
    open_for_ms: u64,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    listings: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    open_to: Vec<Name>,
}

impl Default for More {
    fn default() -> Self {
        let guard = OriginGuard::default();
        Self {
            endpoints: Vec::new(),
            least_outstanding: false,
            slow_after_ms: None,
            one_row: false,
            max_rows: 10_000,
            max_concurrency: guard.max_concurrency,
            max_queue: guard.max_queue,
            retry_budget_percent: guard.retry_budget_percent,
            failure_threshold: guard.failure_threshold,
            open_for_ms: millis(guard.open_for),
            listings: Vec::new(),
            open_to: Vec::new(),
        }
    }
}

impl SettingsColumns {
    fn of(settings: &OriginSettings) -> Self {
        let OriginGuard {
            max_concurrency,
            max_queue,
            retry_budget_percent,
            failure_threshold,
            open_for,
        } = settings.guard;
        let mut more = More {
            max_concurrency,
            max_queue,
            retry_budget_percent,
            failure_threshold,
            open_for_ms: millis(open_for),
            listings: settings.listings.clone(),
            open_to: settings.open_to.clone(),
            ..More::default()
        };
        let mut query = None;
        match &settings.source {
            OriginSource::Http { endpoints, balance, slow_after, .. } => {
                more.endpoints.clone_from(endpoints);
                more.least_outstanding = *balance == Balance::LeastOutstanding;
                more.slow_after_ms = slow_after.map(millis);
            }
            OriginSource::Sql { query: text, result, max_rows, .. } => {
                query = Some(text.clone());
                more.one_row = *result == SqlResult::Row;
                more.max_rows = *max_rows;
            }
        }
        Self {
            url: settings.url().to_owned(),
            connect_timeout_ms: millis(settings.connect_timeout),
            total_timeout_ms: millis(settings.total_timeout),
            max_response_bytes: settings.max_response_bytes,
            query,
            credential: settings.credential.as_ref().map(Name::to_string),
            // Numbers, texts and lists of them are always JSON.
            settings: write_json(&more),
        }
    }

    fn settings(self) -> Result<OriginSettings, RecordsError> {
        let more: More = read_json(&format!("settings of origin {}", self.url), &self.settings)?;
        let url = self.url;
        let source = match self.query {
            Some(query) => OriginSource::Sql {
                url,
                query,
                result: if more.one_row { SqlResult::Row } else { SqlResult::Rows },
                max_rows: more.max_rows,
            },
            None => OriginSource::Http {
                url,
                endpoints: more.endpoints,
                balance: match more.least_outstanding {
                    true => Balance::LeastOutstanding,
                    false => Balance::RoundRobin,
                },
                slow_after: more.slow_after_ms.map(Duration::from_millis),
            },
        };
        Ok(OriginSettings {
            source,
            credential: self.credential.map(read_name).transpose()?,
            connect_timeout: Duration::from_millis(self.connect_timeout_ms),
            total_timeout: Duration::from_millis(self.total_timeout_ms),
            max_response_bytes: self.max_response_bytes,
            guard: OriginGuard {
                max_concurrency: more.max_concurrency,
                max_queue: more.max_queue,
                retry_budget_percent: more.retry_budget_percent,
                failure_threshold: more.failure_threshold,
                open_for: Duration::from_millis(more.open_for_ms),
            },
            listings: more.listings,
            open_to: more.open_to,
        })
    }
}

impl MariaDb {
    /// All origins, by tenant and name.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn origins(&self) -> Result<Vec<OriginRecord>, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// Creates an origin of a tenant.
    ///
    /// # Errors
    /// [`RecordsError::Exists`], [`RecordsError::Missing`] (the tenant),
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn create_origin(
        &self,
        tenant: &Name,
        name: &Name,
        settings: &OriginSettings,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<OriginRecord>, RecordsError> {
        self.change(actor, now, async |connection| {
            let of_tenant = tenant_id(connection, tenant)
                .await
                .map_err(|e| RecordsError::of(format!("tenant {tenant}"), e, ""))?;
            let row = (
                origins::tenant_id.eq(of_tenant),
                origins::name.eq(name.as_str()),
                origins::created_at.eq(now.as_millis()),
                SettingsColumns::of(settings),
            );
            let row = diesel::insert_into(origins::table).values(row);
            let id = ReturningId(row)
                .get_result(connection)
                .await
                .map_err(|e| RecordsError::of(format!("origin {tenant}/{name}"), e, ""))?;
            let change = origin_change("origin.create", (tenant, name), settings_detail(settings));
            let (tenant, name, settings) = (tenant.clone(), name.clone(), settings.clone());
            Ok((OriginRecord { id, tenant, name, settings, created_at: now }, change))
        })
        .await
    }

    /// Replaces an origin's settings.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::Unavailable`].
    pub(crate) async fn change_origin(
        &self,
        origin: &OriginRecord,
        settings: &OriginSettings,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let OriginRecord { id, tenant, name, .. } = origin;
        let error = |e| RecordsError::of(format!("origin {tenant}/{name}"), e, "");
        self.change(actor, now, async |connection| {
            let found = origins::table.find(id).select(origins::id);
            found.first::<u64>(connection).await.map_err(error)?;
            let columns = SettingsColumns::of(settings);
            diesel::update(origins::table.find(id)).set(columns).execute(connection).await?;
            let before = settings_detail(&origin.settings);
            let detail = difference(&before, &settings_detail(settings));
            Ok(((), origin_change("origin.change", (tenant, name), detail)))
        })
        .await
    }

    /// Deletes an origin that no namespace is bound to.
    ///
    /// # Errors
    /// [`RecordsError::Missing`], [`RecordsError::InUse`], [`RecordsError::Unavailable`].
    pub(crate) async fn delete_origin(
        &self,
        tenant: &Name,
        name: &Name,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        let error = |e| RecordsError::of(format!("origin {tenant}/{name}"), e, ORIGIN_USED_BY);
        self.change(actor, now, async |connection| {
            let of_tenant = tenant_id(connection, tenant).await.map_err(error)?;
            let rows = origins::table
                .filter(origins::tenant_id.eq(of_tenant))
                .filter(origins::name.eq(name.as_str()));
            if diesel::delete(rows).execute(connection).await.map_err(error)? == 0 {
                return Err(error(diesel::result::Error::NotFound));
            }
            Ok(((), origin_change("origin.delete", (tenant, name), json!({}))))
        })
        .await
    }
}

/// All origins, by tenant and name.
pub(crate) async fn load(
    connection: &mut AsyncMysqlConnection,
) -> Result<Vec<OriginRecord>, RecordsError> {
    let rows: Vec<(String, Row)> = origins::table
        .inner_join(tenants::table)
        .order((tenants::name, origins::name))
        .select((tenants::name, Row::as_select()))
        .load(connection)
        .await?;
    rows.into_iter()
        .map(|(tenant, row)| {
            Ok(OriginRecord {
                id: row.id,
                tenant: read_name(tenant)?,
                name: read_name(row.name)?,
                settings: row.settings.settings()?,
                created_at: Timestamp::from_millis(row.created_at),
            })
        })
        .collect()
}
