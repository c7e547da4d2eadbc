//! Warm runs and load runs: when they ran, and their results.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use serde_json::Value;
use verax_core::Timestamp;

use super::activity::write;
use super::columns::{ReturningId, read_name};
use super::tenant_ids::tenant_id;
use crate::error::RecordsError;
use crate::mariadb::changes::locked_revision;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::{runs, schedule_slots, tenants};
use crate::model::{Actor, NewRun, RunKind, RunRecord, RunState, SlotState};

pub(super) type Row = (u64, String, String, String, u64, Option<u64>, String, String);

type Columns = (
    runs::id,
    runs::tenant,
    runs::namespace,
    runs::title,
    runs::started_at,
    runs::ended_at,
    runs::state,
    runs::result,
);

/// The columns of a [`Row`].
pub(super) const COLUMNS: Columns = (
    runs::id,
    runs::tenant,
    runs::namespace,
    runs::title,
    runs::started_at,
    runs::ended_at,
    runs::state,
    runs::result,
);

pub(super) fn read_run(row: Row) -> Result<RunRecord, RecordsError> {
    let (id, tenant, namespace, title, started, ended, state, result) = row;
    Ok(RunRecord {
        id,
        tenant: read_name(tenant)?,
        namespace: read_name(namespace)?,
        title,
        started_at: Timestamp::from_millis(started),
        ended_at: ended.map(Timestamp::from_millis),
        state: RunState::read(&state)?,
        result: serde_json::from_str(&result).unwrap_or(Value::Null),
    })
}

impl MariaDb {
    /// Records the start of a run and its actor; returns its identifier.
    ///
    /// # Errors
    /// [`RecordsError::Missing`] (the tenant), [`RecordsError::Unavailable`].
    pub(crate) async fn start_run(
        &self,
        run: &NewRun,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<u64, RecordsError> {
        let NewRun { kind, tenant, namespace, result, .. } = run;
        self.exchange(async |connection| {
            let of_tenant = tenant_id(connection, tenant)
                .await
                .map_err(|e| RecordsError::of(format!("tenant {tenant}"), e, ""))?;
            let started = connection.transaction(async |connection| {
                locked_revision(connection).await?;
                self.check_owner(connection).await?;
                let row = (
                    runs::kind.eq(kind.name()),
                    runs::tenant.eq(tenant.as_str()),
                    runs::tenant_id.eq(of_tenant),
                    runs::namespace.eq(namespace.as_str()),
                    runs::title.eq(run.short_title()),
                    runs::started_at.eq(now.as_millis()),
                    runs::state.eq(RunState::Running.name()),
                    runs::result.eq(result.to_string()),
                );
                let row = diesel::insert_into(runs::table).values(row);
                let id: u64 = ReturningId(row).get_result(connection).await?;
                if let Some((schedule, slot)) = run.slot {
                    let slot = schedule_slots::table.find((schedule, slot.as_millis()));
                    let columns = (
                        schedule_slots::state.eq(SlotState::Started.name()),
                        schedule_slots::run_id.eq(id),
                    );
                    diesel::update(slot).set(columns).execute(connection).await?;
                }
                write(connection, actor, now, &run.change(id), None).await?;
                Ok::<_, RecordsError>(id)
            });
            started.await
        })
        .await
    }

    /// Records a run's progress or end: `ended_at` is `None` while it is active. A run that has
    /// ended does not change.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn keep_run(
        &self,
        id: u64,
        state: RunState,
        result: &Value,
        ended_at: Option<Timestamp>,
    ) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            let columns = (
                runs::ended_at.eq(ended_at.map(Timestamp::as_millis)),
                runs::state.eq(state.name()),
                runs::result.eq(result.to_string()),
            );
            connection
                .transaction(async |connection| {
                    // A run that another node resumed is that node's.
                    locked_revision(connection).await?;
                    self.check_owner(connection).await?;
                    let row = runs::table.find(id).filter(runs::ended_at.is_null());
                    diesel::update(row).set(columns).execute(connection).await?;
                    Ok(())
                })
                .await
        })
        .await
    }

    /// A run of a kind, if its tenant still exists.
    pub(crate) async fn run(
        &self,
        kind: RunKind,
        id: u64,
    ) -> Result<Option<RunRecord>, RecordsError> {
        self.exchange(async |connection| {
            let row = runs::table
                .inner_join(tenants::table)
                .filter(runs::kind.eq(kind.name()))
                .filter(runs::id.eq(id))
                .select(COLUMNS)
                .first(connection)
                .await
                .optional()?;
            row.map(read_run).transpose()
        })
        .await
    }

    /// At most `most` of the latest runs of a kind, newest first, without those of deleted tenants.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn runs(
        &self,
        kind: RunKind,
        most: u32,
    ) -> Result<Vec<RunRecord>, RecordsError> {
        self.exchange(async |connection| {
            let rows: Vec<Row> = runs::table
                .inner_join(tenants::table)
                .filter(runs::kind.eq(kind.name()))
                .select(COLUMNS)
                .order(runs::id.desc())
                .limit(most.into())
                .load(connection)
                .await?;
            rows.into_iter().map(read_run).collect()
        })
        .await
    }
}
