//! Usage over time.

use std::fmt::Write;

use diesel::sql_types::{BigInt, Unsigned};
use diesel::{QueryableByName, sql_query};
use diesel_async::RunQueryDsl;
use verax_core::Timestamp;
use verax_core::usage::{UsageFigures, UsageStep};

use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::model::{UsageOf, UsagePoint, UsageQuery, UsageSample};

/// The most rows of one statement.
const MAX_ROWS: usize = 500;

/// The most rows that one call removes of each step, so that it ends in time.
const MAX_REMOVED: u32 = 20_000;

const COLUMNS: &str = "writer, step_seconds, namespace_id, at, tenant_id, covered_ms, entries, bytes, \
     read_count, hit_count, received_bytes, sent_bytes, origin_reads, origin_saved_ms, evictions, \
     expirations, refusals";

/// A process writes a slot as often as it likes: its row has what it counted so far.
const REPLACED: &str = "covered_ms = VALUES(covered_ms), entries = VALUES(entries), \
     bytes = VALUES(bytes), read_count = VALUES(read_count), hit_count = VALUES(hit_count), \
     received_bytes = VALUES(received_bytes), sent_bytes = VALUES(sent_bytes), \
     origin_reads = VALUES(origin_reads), origin_saved_ms = VALUES(origin_saved_ms), \
     evictions = VALUES(evictions), expirations = VALUES(expirations), \
     refusals = VALUES(refusals)";

/// A slot of one namespace: the counts of all processes that wrote it add up, of their levels the
/// highest counts.
const OF_NAMESPACE: &str = "SELECT at, SUM(covered_ms) AS covered_ms, MAX(entries) AS entries, \
     MAX(bytes) AS bytes, SUM(read_count) AS read_count, SUM(hit_count) AS hit_count, \
     SUM(received_bytes) AS received_bytes, SUM(sent_bytes) AS sent_bytes, \
     SUM(origin_reads) AS origin_reads, SUM(origin_saved_ms) AS origin_saved_ms, \
     SUM(evictions) AS evictions, SUM(expirations) AS expirations, SUM(refusals) AS refusals \
     FROM usage_samples";

/// A slot of several namespaces together.
const TOGETHER: &str = "SELECT at, CAST(MAX(covered_ms) AS UNSIGNED) AS covered_ms, \
     CAST(SUM(entries) AS UNSIGNED) AS entries, CAST(SUM(bytes) AS UNSIGNED) AS bytes, \
     CAST(SUM(read_count) AS UNSIGNED) AS read_count, \
     CAST(SUM(hit_count) AS UNSIGNED) AS hit_count, \
     CAST(SUM(received_bytes) AS UNSIGNED) AS received_bytes, \
     CAST(SUM(sent_bytes) AS UNSIGNED) AS sent_bytes, \
     CAST(SUM(origin_reads) AS UNSIGNED) AS origin_reads, \
     CAST(SUM(origin_saved_ms) AS UNSIGNED) AS origin_saved_ms, \
     CAST(SUM(evictions) AS UNSIGNED) AS evictions, \
     CAST(SUM(expirations) AS UNSIGNED) AS expirations, \
     CAST(SUM(refusals) AS UNSIGNED) AS refusals";

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Unsigned<BigInt>)]
    at: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    covered_ms: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    entries: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    bytes: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    read_count: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    hit_count: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    received_bytes: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    sent_bytes: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    origin_reads: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    origin_saved_ms: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    evictions: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    expirations: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    refusals: u64,
}

impl From<Row> for UsagePoint {
    fn from(row: Row) -> Self {
        Self {
            at: Timestamp::from_millis(row.at),
            covered_ms: row.covered_ms,
            figures: UsageFigures {
                entries: row.entries,
                bytes: row.bytes,
                reads: row.read_count,
                hits: row.hit_count,
                received_bytes: row.received_bytes,
                sent_bytes: row.sent_bytes,
                origin_reads: row.origin_reads,
                origin_saved_ms: row.origin_saved_ms,
                evictions: row.evictions,
                expirations: row.expirations,
                refusals: row.refusals,
            },
        }
    }
}

/// The statement that adds samples. All of its parts are numbers.
fn statement(writer: u64, samples: &[UsageSample]) -> String {
    let mut text = format!("INSERT INTO usage_samples ({COLUMNS}) VALUES ");
    for (number, sample) in samples.iter().enumerate() {
        let figures = &sample.figures;
        let separator = if number == 0 { "" } else { ", " };
        // Writing to a text cannot fail.
        let _ = write!(
            text,
            "{separator}({writer}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {})",
            sample.step.seconds(),
            sample.namespace_id,
            sample.at.as_millis(),
            sample.tenant_id,
            sample.covered_ms,
            figures.entries,
            figures.bytes,
            figures.reads,
            figures.hits,
            figures.received_bytes,
            figures.sent_bytes,
            figures.origin_reads,
            figures.origin_saved_ms,
            figures.evictions,
            figures.expirations,
            figures.refusals,
        );
    }
    text + " ON DUPLICATE KEY UPDATE " + REPLACED
}

impl MariaDb {
    pub(crate) async fn keep_usage(
        &self,
        writer: u64,
        samples: &[UsageSample],
    ) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            for part in samples.chunks(MAX_ROWS) {
                sql_query(statement(writer, part)).execute(connection).await?;
            }
            Ok(())
        })
        .await
    }

    pub(crate) async fn usage(&self, query: &UsageQuery) -> Result<Vec<UsagePoint>, RecordsError> {
        let of = match query.of {
            UsageOf::All => String::new(),
            UsageOf::Tenant(id) => format!(" AND tenant_id = {id}"),
            UsageOf::Namespace(id) => format!(" AND namespace_id = {id}"),
        };
        let text = format!(
            "{TOGETHER} FROM ({OF_NAMESPACE} WHERE step_seconds = {} AND at >= {} AND at < {}{of} \
             GROUP BY namespace_id, at) AS each_namespace GROUP BY at ORDER BY at",
            query.step.seconds(),
            query.step.slot(query.from).as_millis(),
            query.to.as_millis(),
        );
        self.exchange(async |connection| {
            let rows: Vec<Row> = sql_query(text).load(connection).await?;
            Ok(rows.into_iter().map(UsagePoint::from).collect())
        })
        .await
    }

    pub(crate) async fn prune_usage(&self, now: Timestamp) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            for step in UsageStep::ALL {
                let oldest = now - step.kept_for();
                let text = format!(
                    "DELETE FROM usage_samples WHERE step_seconds = {} AND at < {} LIMIT {MAX_REMOVED}",
                    step.seconds(),
                    oldest.as_millis(),
                );
                sql_query(text).execute(connection).await?;
            }
            Ok(())
        })
        .await
    }
}
