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
use crate::mariadb::schema::{runs, tenants};
use crate::model::{Actor, NewRun, RunKind, RunRecord, RunState};

type Row = (u64, String, String, String, u64, Option<u64>, String, String);

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
            let row = runs::table.find(id).filter(runs::ended_at.is_null());
            diesel::update(row).set(columns).execute(connection).await?;
            Ok(())
        })
        .await
    }

    /// Marks the active runs of an earlier process as interrupted; returns how many.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn interrupt_runs(&self, now: Timestamp) -> Result<usize, RecordsError> {
        self.exchange(async |connection| {
            let running = runs::table.filter(runs::state.eq(RunState::Running.name()));
            let columns =
                (runs::ended_at.eq(now.as_millis()), runs::state.eq(RunState::Interrupted.name()));
            Ok(diesel::update(running).set(columns).execute(connection).await?)
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
                .select((
                    runs::id,
                    runs::tenant,
                    runs::namespace,
                    runs::title,
                    runs::started_at,
                    runs::ended_at,
                    runs::state,
                    runs::result,
                ))
                .order(runs::id.desc())
                .limit(most.into())
                .load(connection)
                .await?;
            rows.into_iter()
                .map(|(id, tenant, namespace, title, started, ended, state, result)| {
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
                })
                .collect()
        })
        .await
    }
}
