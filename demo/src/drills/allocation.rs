//! The allocation drill: instances of the berth desk check a berth and then take it.

use std::time::Duration;

use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Text, Unsigned};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};
use futures_util::future::join_all;
use verax_client::{LockOptions, LockOutcome, Namespace};

use super::course::{Course, Side};
use super::scene::Scene;
use super::{Drills, Place, TENANT, text};
use crate::queries;

const LOCK: &str = "berth-7";

const LOCKS: Place = Place {
    name: "drill-locks",
    through: false,
    max_age_seconds: 60.0,
    stale_if_error_seconds: 0.0,
};

/// A lease shorter than the pause of the holder that loses it.
const SHORT_HOLD: Duration = Duration::from_millis(400);
const PAUSE: Duration = Duration::from_millis(1_200);

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    rows: i64,
}

/// How an instance allocates a berth.
#[derive(Clone, Copy, PartialEq)]
enum How {
    /// Check, then insert.
    Bare,
    /// The same under a lock.
    Locked,
    /// Under a lock that the first holder loses midway, with the fencing token sent to the table.
    Lost,
}

/// The outcome of an instance's attempt.
#[derive(Clone, Copy, PartialEq)]
enum Ended {
    Allocated,
    /// It saw that the berth was taken.
    SawTaken,
    /// Its write was refused, because a later holder had written.
    Stopped,
}

async fn taken(connection: &mut AsyncMysqlConnection) -> Result<bool, String> {
    let count: Count =
        diesel::sql_query("SELECT COUNT(*) AS `rows` FROM drill_allocations WHERE berth = 7")
            .get_result(connection)
            .await
            .map_err(text)?;
    if count.rows > 0 {
        return Ok(true);
    }
    // Between check and write is what real desks do there: a query on how the harbor's berths were
    // used.
    queries::berths(connection, "aldermouth").await.map_err(text)?;
    Ok(false)
}

/// Inserts; with a token, only if no larger one was seen, atomically.
async fn insert(
    connection: &mut AsyncMysqlConnection,
    instance: &str,
    token: Option<u64>,
) -> Result<bool, String> {
    let written = match token {
        None => {
            diesel::sql_query("INSERT INTO drill_allocations (berth, instance) VALUES (7, ?)")
                .bind::<Text, _>(instance)
                .execute(connection)
                .await
        }
        Some(token) => {
            let passed = diesel::sql_query(
                "UPDATE drill_fences SET highest = ? WHERE berth = 7 AND highest < ?",
            )
            .bind::<Unsigned<BigInt>, _>(token)
            .bind::<Unsigned<BigInt>, _>(token)
            .execute(connection)
            .await
            .map_err(text)?;
            if passed == 0 {
                return Ok(false);
            }
            diesel::sql_query(
                "INSERT INTO drill_allocations (berth, instance, fencing_token) VALUES (7, ?, ?)",
            )
            .bind::<Text, _>(instance)
            .bind::<Unsigned<BigInt>, _>(token)
            .execute(connection)
            .await
        }
    };
    written.map(|rows| rows > 0).map_err(text)
}

impl Drills {
    pub(super) async fn allocation(
        &self,
        instances: u32,
        course: &Course<'_>,
    ) -> Result<String, String> {
        self.open(&LOCKS).await?;
        let mut ended = Ok(());
        for (name, how) in
            [("no lock", How::Bare), ("lock", How::Locked), ("lock that is lost midway", How::Lost)]
        {
            ended = self.allocate(instances, how, &course.begin(name)).await;
            if ended.is_err() {
                break;
            }
        }
        self.close(&LOCKS).await?;
        ended?;
        let of = |side, name| course.figure(side, name) as u64;
        let rows = "allocations in the table";
        let times = |n: u64| if n == 1 { "once".to_owned() } else { format!("{n} times") };
        Ok(format!(
            "{} instances allocated one berth {} without the lock and {} with it. When a lease was lost midway, the fencing token stopped {} late write, and the table had {} allocation.",
            instances,
            times(of(0, rows)),
            times(of(1, rows)),
            of(2, "late writes stopped"),
            of(2, rows),
        ))
    }

    async fn allocate(&self, instances: u32, how: How, side: &Side<'_, '_>) -> Result<(), String> {
        let mut connection = self.connection().await?;
        connection
            .batch_execute(
                "CREATE TABLE IF NOT EXISTS drill_allocations ( \
                   id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, berth INT NOT NULL, \
                   instance VARCHAR(40) NOT NULL, fencing_token BIGINT UNSIGNED NULL); \
                 CREATE TABLE IF NOT EXISTS drill_fences ( \
                   berth INT NOT NULL PRIMARY KEY, highest BIGINT UNSIGNED NOT NULL); \
                 DELETE FROM drill_allocations; DELETE FROM drill_fences; \
                 INSERT INTO drill_fences VALUES (7, 0)",
            )
            .await
            .map_err(text)?;
        let locks = self.verax.namespace(TENANT, LOCKS.name).map_err(text)?;
        let scene = Scene::of(side);
        scene.draw();
        let attempts = (0..instances).map(|n| self.attempt(n, how, &locks, &scene));
        let mut ended = Vec::new();
        for attempt in join_all(attempts).await {
            ended.push(attempt?);
        }
        scene.draw();
        let rows: Count =
            diesel::sql_query("SELECT COUNT(*) AS `rows` FROM drill_allocations WHERE berth = 7")
                .get_result(&mut connection)
                .await
                .map_err(text)?;
        let how_many = |what| ended.iter().filter(|e| **e == what).count() as f64;
        side.figures(&[
            ("instances", f64::from(instances), ""),
            ("allocations in the table", rows.rows as f64, ""),
            ("double allocations", (rows.rows - 1).max(0) as f64, ""),
            ("refused since it was taken", how_many(Ended::SawTaken), ""),
            ("late writes stopped", how_many(Ended::Stopped), ""),
        ]);
        Ok(())
    }

    async fn attempt(
        &self,
        number: u32,
        how: How,
        locks: &Namespace,
        scene: &Scene<'_, '_, '_>,
    ) -> Result<Ended, String> {
        let side = scene.side();
        let who = format!("berth desk {}", number + 1);
        // Slightly apart, like real instances, so that the first is first in the queue.
        tokio::time::sleep(Duration::from_millis(u64::from(number) * 5)).await;
        let loses = how == How::Lost && number == 0;
        let mut lease = None;
        if how != How::Bare {
            let options = LockOptions {
                owner: Some(who.clone()),
                lease: if loses { SHORT_HOLD } else { Duration::from_secs(20) },
                wait: Duration::from_secs(60),
                ..LockOptions::default()
            };
            scene.begin_to_wait();
            let claimed = locks.acquire_lock(LOCK, &options).await;
            scene.end_waiting();
            match claimed.map_err(text)? {
                LockOutcome::Acquired(held) => {
                    side.event(&*who, format!("holds the lock, token {}", held.fencing_token));
                    lease = Some(held);
                }
                LockOutcome::HeldByOther(holder) => {
                    return Err(format!("{who} did not get the lock: {} holds it", holder.owner));
                }
            }
        }
        let token = lease.as_ref().map(|held| held.fencing_token);
        let mut connection = self.connection().await?;
        let ended = if taken(&mut connection).await? {
            side.event(&*who, "sees that the berth is taken");
            Ended::SawTaken
        } else {
            if loses {
                side.event(&*who, "saw a free berth, and stops for longer than its lease lasts");
                tokio::time::sleep(PAUSE).await;
            }
            // Only the third way has a table that checks tokens.
            match insert(&mut connection, &who, token.filter(|_| how == How::Lost)).await? {
                true => {
                    side.event(&*who, "writes its allocation");
                    scene.allocate();
                    Ended::Allocated
                }
                false => {
                    side.event(&*who, "comes too late: the table has seen a larger token");
                    Ended::Stopped
                }
            }
        };
        if let Some(held) = lease {
            match locks.release_lock(LOCK, held.fencing_token).await {
                Err(error) if error.problem() == Some("not-held") => {
                    side.event(&*who, "learns that its lease was over");
                }
                other => other.map_err(text)?,
            }
        }
        Ok(ended)
    }
}
