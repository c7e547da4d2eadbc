//! What a run needs to be resumed, the keys that it could not refill, and its samples.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use serde_json::Value;
use verax_core::Timestamp;

use super::runs::{COLUMNS, read_run};
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::{run_failures, run_samples, run_work, runs, tenants};
use crate::model::{RunFailure, RunKind, RunRecord, RunState, short};

/// The most bytes of a part.
const MAX_PART_BYTES: usize = 1 << 20;

/// How many of the latest warm runs have their failures kept.
const RUNS_WITH_FAILURES: i64 = 100;

/// How many of the latest runs of a kind have their samples kept.
const SAMPLED_RUNS: [(RunKind, i64); 2] = [(RunKind::Load, 500), (RunKind::Recording, 50)];

/// The part that makes the work complete. It is written last.
const LAST_PART: u32 = u32::MAX;

impl MariaDb {
    /// Keeps the work of an active run. It is there whole or not at all.
    pub(crate) async fn keep_work(&self, run: u64, work: &[u8]) -> Result<(), RecordsError> {
        let packed = lz4_flex::compress_prepend_size(work);
        let mut parts: Vec<&[u8]> = packed.chunks(MAX_PART_BYTES).collect();
        let last = parts.pop().unwrap_or_default();
        let numbered = (0_u32..).zip(parts).chain([(LAST_PART, last)]);
        for (part, content) in numbered {
            self.exchange(async |connection| {
                let row = (
                    run_work::run_id.eq(run),
                    run_work::part.eq(part),
                    run_work::content.eq(content),
                );
                diesel::replace_into(run_work::table).values(row).execute(connection).await?;
                Ok(())
            })
            .await?;
        }
        Ok(())
    }

    /// The work of a run.
    pub(crate) async fn work(&self, run: u64) -> Result<Vec<u8>, RecordsError> {
        let mut packed = Vec::new();
        let mut next = 0;
        loop {
            let row: Option<(u32, Vec<u8>)> = self
                .exchange(async |connection| {
                    let rows = run_work::table
                        .filter(run_work::run_id.eq(run))
                        .filter(run_work::part.ge(next))
                        .select((run_work::part, run_work::content))
                        .order(run_work::part);
                    Ok(rows.first(connection).await.optional()?)
                })
                .await?;
            let unreadable =
                |why| RecordsError::Unreadable(format!("the work of run {run}: {why}"));
            let (part, content) = row.ok_or_else(|| unreadable("it is incomplete".to_owned()))?;
            packed.extend(content);
            if part == LAST_PART {
                return lz4_flex::decompress_size_prepended(&packed)
                    .map_err(|e| unreadable(e.to_string()));
            }
            next = part + 1;
        }
    }

    /// Removes the work of runs that have ended, the failures of all but the latest warm runs, and
    /// the samples of all but the latest load runs and recordings.
    pub(crate) async fn prune_work(&self) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            let active = runs::table.filter(runs::ended_at.is_null()).select(runs::id);
            let ended = run_work::table.filter(run_work::run_id.ne_all(active));
            diesel::delete(ended).execute(connection).await?;
            let latest_beyond = |kind: RunKind, most: i64| {
                runs::table
                    .filter(runs::kind.eq(kind.name()))
                    .select(runs::id)
                    .order(runs::id.desc())
                    .offset(most)
            };
            for (kind, most) in SAMPLED_RUNS {
                let latest_without: Option<u64> =
                    latest_beyond(kind, most).first(connection).await.optional()?;
                let Some(latest_without) = latest_without else { continue };
                let of_kind = runs::table
                    .filter(runs::kind.eq(kind.name()))
                    .filter(runs::id.le(latest_without))
                    .select(runs::id);
                let old = run_samples::table.filter(run_samples::run_id.eq_any(of_kind));
                diesel::delete(old).execute(connection).await?;
            }
            let latest_without: Option<u64> = latest_beyond(RunKind::Warm, RUNS_WITH_FAILURES)
                .first(connection)
                .await
                .optional()?;
            if let Some(latest_without) = latest_without {
                let old = run_failures::table.filter(run_failures::run_id.le(latest_without));
                diesel::delete(old).execute(connection).await?;
            }
            Ok(())
        })
        .await
    }

    /// Marks the active runs of an earlier process as interrupted, but for those that can be
    /// resumed; returns these, oldest first.
    pub(crate) async fn interrupt_runs(
        &self,
        now: Timestamp,
    ) -> Result<Vec<RunRecord>, RecordsError> {
        self.exchange(async |connection| {
            connection
                .transaction(async |connection| {
                    let complete = run_work::table
                        .filter(run_work::part.eq(LAST_PART))
                        .select(run_work::run_id);
                    let running = runs::table.filter(runs::state.eq(RunState::Running.name()));
                    let columns = (
                        runs::ended_at.eq(now.as_millis()),
                        runs::state.eq(RunState::Interrupted.name()),
                    );
                    let gone = running.filter(runs::id.ne_all(complete));
                    diesel::update(gone).set(columns).execute(connection).await?;
                    let rows = runs::table
                        .inner_join(tenants::table)
                        .filter(runs::state.eq(RunState::Running.name()))
                        .filter(runs::kind.eq(RunKind::Warm.name()))
                        .select(COLUMNS)
                        .order(runs::id)
                        .load(connection)
                        .await?;
                    rows.into_iter().map(read_run).collect()
                })
                .await
        })
        .await
    }

    /// Keeps failures of a run.
    pub(crate) async fn keep_failures(
        &self,
        run: u64,
        failures: &[RunFailure],
    ) -> Result<(), RecordsError> {
        let rows: Vec<_> = failures
            .iter()
            .map(|failure| {
                (
                    run_failures::run_id.eq(run),
                    run_failures::number.eq(failure.number),
                    run_failures::failed_key.eq(&failure.key),
                    run_failures::reason.eq(short(&failure.reason)),
                )
            })
            .collect();
        self.exchange(async |connection| {
            diesel::replace_into(run_failures::table).values(&rows).execute(connection).await?;
            Ok(())
        })
        .await
    }

    /// Keeps samples of a run, numbered from `from` on.
    pub(crate) async fn keep_samples(
        &self,
        run: u64,
        from: u32,
        samples: &[Value],
    ) -> Result<(), RecordsError> {
        let rows: Vec<_> = (from..)
            .zip(samples)
            .map(|(number, sample)| {
                (
                    run_samples::run_id.eq(run),
                    run_samples::number.eq(number),
                    run_samples::content.eq(sample.to_string()),
                )
            })
            .collect();
        self.exchange(async |connection| {
            diesel::replace_into(run_samples::table).values(&rows).execute(connection).await?;
            Ok(())
        })
        .await
    }

    /// The samples of a run from a number on.
    pub(crate) async fn samples(
        &self,
        run: u64,
        from: u32,
        most: u32,
    ) -> Result<Vec<Value>, RecordsError> {
        self.exchange(async |connection| {
            let rows: Vec<String> = run_samples::table
                .filter(run_samples::run_id.eq(run))
                .filter(run_samples::number.ge(from))
                .select(run_samples::content)
                .order(run_samples::number)
                .limit(most.into())
                .load(connection)
                .await?;
            let unreadable = |e: serde_json::Error| RecordsError::Unreadable(e.to_string());
            rows.iter().map(|row| serde_json::from_str(row).map_err(unreadable)).collect()
        })
        .await
    }

    /// The failures of a run from a number on.
    pub(crate) async fn failures(
        &self,
        run: u64,
        from: u32,
        most: u32,
    ) -> Result<Vec<RunFailure>, RecordsError> {
        self.exchange(async |connection| {
            let rows: Vec<(u32, String, String)> = run_failures::table
                .filter(run_failures::run_id.eq(run))
                .filter(run_failures::number.ge(from))
                .select((run_failures::number, run_failures::failed_key, run_failures::reason))
                .order(run_failures::number)
                .limit(most.into())
                .load(connection)
                .await?;
            let failure = |(number, key, reason)| RunFailure { number, key, reason };
            Ok(rows.into_iter().map(failure).collect())
        })
        .await
    }
}
