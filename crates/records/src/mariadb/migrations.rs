//! Migrates the tables.
//!
//! MariaDB commits at each statement that creates or changes a table, so a migration killed halfway
//! leaves its first half. Every statement can therefore be repeated: the next start runs the
//! migration again and completes it.

use std::time::Duration;

use diesel::sql_types::{Integer, Text};
use diesel::{QueryableByName, sql_query};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};

use crate::error::RecordsError;
use crate::mariadb::connection::{MariaDb, connect};

/// One step of the schema, by version.
struct Migration {
    version: &'static str,
    statements: &'static str,
}

macro_rules! migration {
    ($version:literal, $name:literal) => {
        Migration {
            version: $version,
            statements: include_str!(concat!("../../migrations/", $version, "_", $name, ".sql")),
        }
    };
}

static MIGRATIONS: [Migration; 11] = [
    migration!("0001", "records"),
    migration!("0002", "quotas"),
    migration!("0003", "lock_epochs"),
    migration!("0004", "refills"),
    migration!("0005", "revisions"),
    migration!("0006", "nodes"),
    migration!("0007", "token_lifetimes"),
    migration!("0008", "tenant_quotas"),
    migration!("0009", "usage"),
    migration!("0010", "definitions"),
    migration!("0011", "samples"),
];

/// How long one process waits for another that migrates the same tables, in seconds.
const LOCK_SECONDS: u32 = 30;

/// The timeout of all migrations: changing a large table takes minutes.
const MIGRATION_TIMEOUT: Duration = Duration::from_secs(600);

const LOG: &str = "CREATE TABLE IF NOT EXISTS __diesel_schema_migrations (\
     version VARCHAR(50) NOT NULL PRIMARY KEY, \
     run_on TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP)";

#[derive(QueryableByName)]
struct Applied {
    #[diesel(sql_type = Text)]
    version: String,
}

#[derive(QueryableByName)]
struct Locked {
    #[diesel(sql_type = Integer)]
    locked: i32,
}

/// The statements of a migration, without comments.
fn statements(migration: &Migration) -> impl Iterator<Item = String> {
    let lines = migration.statements.lines().filter(|line| !line.trim_start().starts_with("--"));
    let text: String = lines.flat_map(|line| [line, "\n"]).collect();
    let statements: Vec<String> = text
        .split(";\n")
        .map(|statement| statement.trim().to_owned())
        .filter(|statement| !statement.is_empty())
        .collect();
    statements.into_iter()
}

impl MariaDb {
    /// Migrates the tables.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`] if MariaDB cannot be reached or refuses,
    /// [`RecordsError::NewerSchema`] if a later version of Verax has used them.
    pub(crate) async fn prepare(&self) -> Result<(), RecordsError> {
        // Usually there is nothing to do, which one exchange determines.
        match self.is_prepared().await? {
            true => Ok(()),
            false => self.prepare_with(usize::MAX).await,
        }
    }

    /// Whether the tables are current. Only the owner of the share migrates them: an earlier
    /// version may still be using them.
    ///
    /// # Errors
    /// As [`prepare`](Self::prepare).
    pub(crate) async fn is_prepared(&self) -> Result<bool, RecordsError> {
        self.exchange(async |connection| Ok(pending(connection).await?.is_empty())).await
    }

    /// [`prepare`](Self::prepare), cut off after some statements as by a kill.
    async fn prepare_with(&self, max_statements: usize) -> Result<(), RecordsError> {
        // A connection of its own, since the lock belongs to the session. Changes of large tables
        // may take long; the end of this call closes the connection.
        let mut connection = connect(self.url()).await?;
        let migrating = migrate(&mut connection, max_statements);
        let result = tokio::time::timeout(MIGRATION_TIMEOUT, migrating).await;
        crate::mariadb::connection::close(connection);
        result.unwrap_or_else(|_| {
            Err(RecordsError::Unavailable("the tables were not migrated in time".into()))
        })
    }
}

/// The pending migrations.
async fn pending(
    connection: &mut AsyncMysqlConnection,
) -> Result<Vec<&'static Migration>, RecordsError> {
    connection.batch_execute(LOG).await?;
    let applied: Vec<Applied> =
        sql_query("SELECT version FROM __diesel_schema_migrations ORDER BY version")
            .load(connection)
            .await?;
    let applied: Vec<String> = applied.into_iter().map(|row| row.version).collect();
    let latest = MIGRATIONS[MIGRATIONS.len() - 1].version;
    if let Some(newer) = applied.iter().rfind(|version| version.as_str() > latest) {
        return Err(RecordsError::NewerSchema { found: newer.clone(), known: latest });
    }
    let missing = |migration: &&Migration| !applied.iter().any(|v| v == migration.version);
    Ok(MIGRATIONS.iter().filter(missing).collect())
}

async fn migrate(
    connection: &mut AsyncMysqlConnection,
    mut max_statements: usize,
) -> Result<(), RecordsError> {
    let lock =
        format!("SELECT GET_LOCK(CONCAT('verax.migrate.', DATABASE()), {LOCK_SECONDS}) AS locked");
    let locked: Locked = sql_query(lock).get_result(connection).await?;
    if locked.locked != 1 {
        return Err(RecordsError::Unavailable(
            "another node is migrating the tables; start again when it has finished".into(),
        ));
    }
    for migration in pending(connection).await? {
        let done = sql_query("INSERT IGNORE INTO __diesel_schema_migrations (version) VALUES (?)")
            .bind::<Text, _>(migration.version);
        for statement in statements(migration) {
            if max_statements == 0 {
                return Ok(());
            }
            max_statements -= 1;
            connection.batch_execute(&statement).await?;
        }
        if max_statements == 0 {
            return Ok(());
        }
        max_statements -= 1;
        done.execute(connection).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mariadb::launcher::PrivateServer;

    #[derive(QueryableByName, PartialEq, Debug)]
    struct Column {
        #[diesel(sql_type = Text)]
        shape: String,
    }

    /// The tables of a database, with their columns and keys.
    async fn shape(connection: &mut AsyncMysqlConnection) -> Vec<Column> {
        let columns = "SELECT CAST(CONCAT_WS(' ', table_name, column_name, column_type, is_nullable) AS CHAR) AS shape \
             FROM information_schema.columns WHERE table_schema = DATABASE() \
             UNION SELECT CAST(CONCAT_WS(' ', table_name, index_name, column_name) AS CHAR) \
             FROM information_schema.statistics WHERE table_schema = DATABASE() \
             UNION SELECT CAST(CONCAT_WS(' ', table_name, constraint_name, constraint_type) AS CHAR) \
             FROM information_schema.table_constraints WHERE table_schema = DATABASE() \
             UNION SELECT CAST(CONCAT_WS(' ', trigger_name, event_manipulation, event_object_table) AS CHAR) \
             FROM information_schema.triggers WHERE trigger_schema = DATABASE() ORDER BY 1";
        sql_query(columns).load(connection).await.unwrap()
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_migration_killed_at_any_statement_completes_at_the_next_start() {
        let directory = crate::mariadb::launcher::scratch_directory();
        let server = PrivateServer::start(directory.path()).await.unwrap();
        let records = MariaDb::later(server.url("verax"));
        records.prepare().await.unwrap();
        let mut connection = connect(records.url()).await.unwrap();
        let whole = shape(&mut connection).await;
        let steps = MIGRATIONS.iter().map(|m| statements(m).count() + 1).sum::<usize>();
        assert!(whole.len() > 60 && steps > 15, "{} {steps}", whole.len());
        let anew = "DROP DATABASE verax; CREATE DATABASE verax CHARACTER SET utf8mb4 COLLATE utf8mb4_bin; USE verax";
        for kept in 0..steps {
            connection.batch_execute(anew).await.unwrap();
            records.prepare_with(kept).await.unwrap();
            // Some statements run twice if the start after the kill is killed too.
            records.prepare_with(1).await.unwrap();
            records.prepare().await.unwrap();
            assert_eq!(shape(&mut connection).await, whole, "killed after {kept} statements");
            assert_eq!(records.revision().await.unwrap(), 0);
        }
        server.stop().await.unwrap();
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn tables_of_a_later_version_are_refused_naming_both_versions() {
        let directory = crate::mariadb::launcher::scratch_directory();
        let server = PrivateServer::start(directory.path()).await.unwrap();
        let records = MariaDb::later(server.url("verax"));
        records.prepare().await.unwrap();
        let mut connection = connect(records.url()).await.unwrap();
        let later = "INSERT INTO __diesel_schema_migrations (version) VALUES ('0099')";
        connection.batch_execute(later).await.unwrap();
        let refused = records.prepare().await.unwrap_err();
        let known = MIGRATIONS[MIGRATIONS.len() - 1].version;
        assert_eq!(refused, RecordsError::NewerSchema { found: "0099".into(), known });
        let text = refused.to_string();
        assert!(text.contains("0099") && text.contains(known), "{text}");
        server.stop().await.unwrap();
    }
}
