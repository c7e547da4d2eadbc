//! The old-data drill: a slow reader and a writer, interleaved so that a naive cache keeps the old
//! value.

use std::time::Duration;

use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Integer};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};
use tokio::sync::oneshot;
use verax_client::{Cache, CacheOptions, PutOptions};

use super::course::{Course, Side};
use super::{Drills, Place, text};

const KEY: &str = "notice/aldermouth";
const LIFETIME: Duration = Duration::from_secs(60);

const NOTICES: Place = Place {
    name: "drill-notices",
    through: false,
    max_age_seconds: 60.0,
    stale_if_error_seconds: 0.0,
};

#[derive(QueryableByName)]
struct Notice {
    #[diesel(sql_type = BigInt)]
    edition: i64,
}

async fn edition(connection: &mut AsyncMysqlConnection) -> Result<i64, String> {
    let notice: Notice =
        diesel::sql_query("SELECT CAST(edition AS SIGNED) AS edition FROM drill_notices")
            .get_result(connection)
            .await
            .map_err(text)?;
    Ok(notice.edition)
}

impl Drills {
    pub(super) async fn old_data(
        &self,
        rounds: u32,
        course: &Course<'_>,
    ) -> Result<String, String> {
        self.open(&NOTICES).await?;
        let mut ended = Ok(());
        for (name, permits) in [("plain look-up and store", false), ("refill permits", true)] {
            ended = self.interleave(rounds, permits, &course.begin(name)).await;
            if ended.is_err() {
                break;
            }
        }
        self.close(&NOTICES).await?;
        ended?;
        let old = "old values left in the cache";
        Ok(format!(
            "In {rounds} rounds the cache kept the old notice {} times without permits, and {} times with them.",
            course.figure(0, old) as u64,
            course.figure(1, old) as u64
        ))
    }

    async fn interleave(
        &self,
        rounds: u32,
        permits: bool,
        side: &Side<'_, '_>,
    ) -> Result<(), String> {
        let mut connection = self.connection().await?;
        let first = "CREATE TABLE IF NOT EXISTS drill_notices (edition INT NOT NULL); \
                     DELETE FROM drill_notices; INSERT INTO drill_notices VALUES (1)";
        connection.batch_execute(first).await.map_err(text)?;
        let long = Duration::from_secs(10);
        let options = CacheOptions { timeout: long, bound: long, ..CacheOptions::default() };
        let cache = self.cache(&NOTICES, options)?;
        let (mut old, mut refused) = (0u32, 0u32);
        for round in 1..=rounds {
            cache.delete(KEY).await.map_err(text)?;
            let (has_read, reader_has_read) = oneshot::channel();
            let (has_written, writer_has_written) = oneshot::channel();
            let reading = self.read_slowly(&cache, permits, has_read, writer_has_written);
            let writing = async {
                let before = reader_has_read.await.map_err(text)?;
                diesel::sql_query("UPDATE drill_notices SET edition = ?")
                    .bind::<Integer, _>(i32::try_from(before + 1).map_err(text)?)
                    .execute(&mut connection)
                    .await
                    .map_err(text)?;
                cache.delete(KEY).await.map_err(text)?;
                let _ = has_written.send(());
                Ok::<i64, String>(before + 1)
            };
            let (read, written) = tokio::join!(reading, writing);
            let (read, written) = (read?, written?);
            // What the next user sees.
            let kept: Option<i64> = cache.get_json(KEY).await.map_err(text)?;
            match kept {
                Some(kept) if kept < written => old += 1,
                None => refused += 1,
                Some(_) => {}
            }
            if round <= 3 {
                side.event("reader", format!("read edition {read}"));
                side.event("writer", format!("wrote edition {written}, and invalidated the entry"));
                side.event(
                    "next user",
                    match kept {
                        Some(kept) => format!("gets edition {kept} from the cache"),
                        None => "misses, and reads the new edition".to_owned(),
                    },
                );
            }
            side.tick(&[
                ("old values left in the cache", f64::from(old)),
                ("late stores refused", f64::from(refused)),
            ]);
        }
        side.figures(&[
            ("rounds", f64::from(rounds), ""),
            ("old values left in the cache", f64::from(old), ""),
            ("late stores refused", f64::from(refused), ""),
            (
                "an old value would be seen for",
                if old > 0 { LIFETIME.as_secs_f64() } else { 0.0 },
                "s",
            ),
        ]);
        Ok(())
    }

    /// Reads the notice, lets the writer write, and stores what was read.
    async fn read_slowly(
        &self,
        cache: &Cache,
        permits: bool,
        has_read: oneshot::Sender<i64>,
        written: oneshot::Receiver<()>,
    ) -> Result<i64, String> {
        let refill = async || {
            let mut connection = self.connection().await?;
            let edition = edition(&mut connection).await?;
            let _ = has_read.send(edition);
            written.await.map_err(text)?;
            Ok::<i64, String>(edition)
        };
        if permits {
            return cache.get_or_refill(KEY, LIFETIME, refill).await;
        }
        if let Some(found) = cache.get_json(KEY).await.map_err(text)? {
            return Ok(found);
        }
        let edition = refill().await?;
        let options = PutOptions { max_age: Some(LIFETIME), ..PutOptions::default() };
        cache.put_json(KEY, &edition, options).await.map_err(text)?;
        Ok(edition)
    }
}
