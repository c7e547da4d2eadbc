//! Loading the generated data into MariaDB, once.

use diesel::deserialize::QueryableByName;
use diesel::sql_types::{BigInt, Text};
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};
use jiff::ToSpan;
use jiff::civil::Date;

use super::names::{LINES, VESSELS, gauges, harbors};
use super::rows::{days, readings, sailings};
use crate::error::DemoError;

/// The seed of the demo's data.
const SEED: u64 = 8_750;

/// The version of the data; older data is replaced.
const EDITION: u32 = 3;

const DAYS_BACK: i64 = 60;
const DAYS_AHEAD: i64 = 14;

/// Data that ends sooner than this is replaced.
const DAYS_NEEDED: i64 = 3;

/// Rows of one INSERT.
const BATCH: usize = 2_000;

/// The loaded data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LoadedData {
    /// The number of sailings.
    pub sailings: i64,
    /// The number of gauge readings.
    pub readings: i64,
    /// Whether it was loaded by this start.
    pub fresh: bool,
}

#[derive(QueryableByName)]
struct LastDay {
    #[diesel(sql_type = Text)]
    last_day: String,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    rows_there: i64,
}

async fn count(connection: &mut AsyncMysqlConnection, table: &str) -> Result<i64, DemoError> {
    let query = diesel::sql_query(format!("SELECT COUNT(*) AS rows_there FROM ferry.{table}"));
    Ok(query.get_result::<Count>(connection).await?.rows_there)
}

/// Whether the existing data is complete and recent enough.
async fn is_current(connection: &mut AsyncMysqlConnection, today: Date) -> bool {
    let query = diesel::sql_query(format!(
        "SELECT CAST(last_day AS CHAR) AS last_day FROM ferry.loaded \
         WHERE seed = {SEED} AND edition = {EDITION}"
    ));
    // Without the table there is no data.
    let Ok(row) = query.get_result::<LastDay>(connection).await else { return false };
    row.last_day.parse::<Date>().is_ok_and(|last| last >= today + DAYS_NEEDED.days())
}

/// Loads the ferry data into the database `ferry` of a MariaDB, unless it exists. `progress`
/// receives the days loaded and their total.
///
/// # Errors
/// [`DemoError::Data`].
pub async fn load(
    url: &str,
    today: Date,
    mut progress: impl FnMut(u64, u64),
) -> Result<LoadedData, DemoError> {
    let mut connection =
        AsyncMysqlConnection::establish(url).await.map_err(|e| DemoError::Data(e.to_string()))?;
    let connection = &mut connection;
    let fresh = !is_current(connection, today).await;
    if fresh {
        fill(connection, today, &mut progress).await?;
    }
    let (sailings, readings) =
        (count(connection, "sailings").await?, count(connection, "readings").await?);
    Ok(LoadedData { sailings, readings, fresh })
}

async fn insert(
    connection: &mut AsyncMysqlConnection,
    table: &str,
    rows: &[String],
) -> Result<(), DemoError> {
    for batch in rows.chunks(BATCH) {
        let statement = format!("INSERT INTO {table} VALUES {}", batch.join(","));
        connection.batch_execute(&statement).await?;
    }
    Ok(())
}

async fn fill(
    connection: &mut AsyncMysqlConnection,
    today: Date,
    progress: &mut impl FnMut(u64, u64),
) -> Result<(), DemoError> {
    // From scratch, so that an interrupted load leaves nothing behind.
    connection
        .batch_execute(
            "DROP DATABASE IF EXISTS ferry; CREATE DATABASE ferry CHARACTER SET utf8mb4; USE ferry",
        )
        .await?;
    connection.batch_execute(include_str!("../../schema.sql")).await?;
    let (harbors, gauges) = (harbors(), gauges());
    let row = |h: &super::Harbor| format!("({},'{}','{}')", h.id, h.slug, h.name);
    insert(connection, "harbors", &harbors.iter().map(row).collect::<Vec<_>>()).await?;
    let row = |(id, (code, name)): (usize, &(&str, &str))| format!("({id},'{code}','{name}')");
    insert(connection, "ferry_lines", &(1..).zip(&LINES).map(row).collect::<Vec<_>>()).await?;
    let row = |(id, (name, places)): (usize, &(&str, u16))| format!("({id},'{name}',{places})");
    insert(connection, "vessels", &(1..).zip(&VESSELS).map(row).collect::<Vec<_>>()).await?;
    let row = |g: &super::Gauge| format!("({},'{}',{})", g.id, g.slug, g.harbor);
    insert(connection, "gauges", &gauges.iter().map(row).collect::<Vec<_>>()).await?;
    let berths: Vec<String> = harbors
        .iter()
        .flat_map(|h| (1..=4u16).map(move |n| (h.id, n)))
        .map(|(harbor, n)| format!("({},{harbor},{n},{})", (harbor - 1) * 4 + n, 60 + 20 * n))
        .collect();
    insert(connection, "berths", &berths).await?;
    let (first, last) = (today - DAYS_BACK.days(), today + DAYS_AHEAD.days());
    let all: Vec<Date> = days(first, last).collect();
    let mut next_id = 1;
    for (done, day) in (1..).zip(&all) {
        connection.batch_execute("START TRANSACTION").await?;
        insert(connection, "sailings", &sailings(SEED, *day, &harbors, &mut next_id)).await?;
        insert(connection, "readings", &readings(SEED, *day, &gauges)).await?;
        connection.batch_execute("COMMIT").await?;
        progress(done, all.len() as u64);
    }
    let done = format!("INSERT INTO loaded VALUES ({SEED},'{first}','{last}',{EDITION})");
    connection.batch_execute(&done).await?;
    connection.batch_execute("ANALYZE TABLE sailings, readings").await?;
    Ok(())
}
