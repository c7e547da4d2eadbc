//! Warm runs and load runs: when they ran, and what came of them.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use serde_json::Value;
use verax_core::{Name, Timestamp};

use super::{new_id, read_name};
use crate::connection::{Records, bounded};
use crate::error::RecordsError;
use crate::schema::runs;

/// Which kind of run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RunKind {
    /// A warm run.
    Warm,
    /// A load run.
    Load,
}

/// How far a run came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RunState {
    /// It is under way.
    Running,
    /// It ended by itself.
    Done,
    /// It could not be carried out.
    Failed,
    /// Somebody stopped it.
    Stopped,
    /// The service ended before it did.
    Interrupted,
}

/// A run.
#[derive(Debug, Clone, PartialEq)]
pub struct RunRecord {
    /// Its identity.
    pub id: u64,
    /// The tenant whose namespace it read.
    pub tenant: Name,
    /// The namespace it read.
    pub namespace: Name,
    /// What it was, for people.
    pub title: String,
    /// When it started.
    pub started_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// How far it came.
    pub state: RunState,
    /// What came of it; `Null` while it is under way.
    pub result: Value,
}

impl RunKind {
    const fn name(self) -> &'static str {
        match self {
            RunKind::Warm => "warm",
            RunKind::Load => "load",
        }
    }
}

impl RunState {
    /// Its name in the records and in the API.
    pub const fn name(self) -> &'static str {
        match self {
            RunState::Running => "running",
            RunState::Done => "done",
            RunState::Failed => "failed",
            RunState::Stopped => "stopped",
            RunState::Interrupted => "interrupted",
        }
    }

    fn read(name: &str) -> Result<Self, RecordsError> {
        use RunState::{Done, Failed, Interrupted, Running, Stopped};
        [Running, Done, Failed, Stopped, Interrupted]
            .into_iter()
            .find(|state| state.name() == name)
            .ok_or_else(|| RecordsError::Unreadable(format!("a run has the state {name:?}")))
    }
}

type Row = (u64, String, String, String, String, u64, Option<u64>, String, String);

impl Records {
    /// Remembers that a run started; returns its identity.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn start_run(
        &self,
        kind: RunKind,
        tenant: &Name,
        namespace: &Name,
        title: &str,
        now: Timestamp,
    ) -> Result<u64, RecordsError> {
        let records = self.clone();
        let row = (
            runs::kind.eq(kind.name()),
            runs::tenant.eq(tenant.to_string()),
            runs::namespace.eq(namespace.to_string()),
            runs::title.eq(title.chars().take(200).collect::<String>()),
            runs::started_at.eq(now.as_millis()),
            runs::state.eq(RunState::Running.name()),
            runs::result.eq("null"),
        );
        bounded(async move {
            let mut connection = records.connection().await?;
            diesel::insert_into(runs::table).values(row).execute(&mut connection).await?;
            Ok(new_id(&mut connection).await?)
        })
        .await
    }

    /// Remembers how a run ended.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn end_run(
        &self,
        id: u64,
        state: RunState,
        result: &Value,
        now: Timestamp,
    ) -> Result<(), RecordsError> {
        let (records, result) = (self.clone(), result.to_string());
        bounded(async move {
            let mut connection = records.connection().await?;
            let columns = (
                runs::ended_at.eq(now.as_millis()),
                runs::state.eq(state.name()),
                runs::result.eq(result),
            );
            diesel::update(runs::table.find(id)).set(columns).execute(&mut connection).await?;
            Ok(())
        })
        .await
    }

    /// Marks the runs that an earlier process left under way; returns how many.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn interrupt_runs(&self, now: Timestamp) -> Result<usize, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let running = runs::table.filter(runs::state.eq(RunState::Running.name()));
            let columns =
                (runs::ended_at.eq(now.as_millis()), runs::state.eq(RunState::Interrupted.name()));
            Ok(diesel::update(running).set(columns).execute(&mut connection).await?)
        })
        .await
    }

    /// The latest runs of a kind, newest first, at most `most`.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub async fn runs(&self, kind: RunKind, most: u32) -> Result<Vec<RunRecord>, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            let rows: Vec<Row> = runs::table
                .filter(runs::kind.eq(kind.name()))
                .order(runs::id.desc())
                .limit(most.into())
                .load(&mut connection)
                .await?;
            rows.into_iter()
                .map(|(id, _, tenant, namespace, title, started, ended, state, result)| {
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
