//! The lease on the records: at most one Verax makes changes to them.
//!
//! MariaDB guards it: it is a lock of a session (`GET_LOCK`), so it ends with the connection of its
//! holder, however that ends. It is on a share of the keys, of which there is one today.

use std::time::Duration;

use diesel::QueryableByName;
use diesel::sql_types::{Integer, Nullable, Text};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};

use crate::connection::{Records, close, connect};
use crate::error::RecordsError;

/// The only share.
const SHARE: &str = "0";

/// How long a holder may be silent before MariaDB ends its session, in seconds: it may be gone
/// without a word.
const SILENCE_SECONDS: u32 = 10;

/// How long confirming the lease may take.
const CONFIRM_TIMEOUT: Duration = Duration::from_secs(2);

/// The lease, for as long as this lives and its connection does.
pub struct Lease {
    connection: Option<AsyncMysqlConnection>,
}

impl std::fmt::Debug for Lease {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Lease").finish_non_exhaustive()
    }
}

#[derive(QueryableByName)]
struct Yes {
    #[diesel(sql_type = Integer)]
    yes: i32,
}

#[derive(QueryableByName)]
struct Holder {
    #[diesel(sql_type = Nullable<Text>)]
    host: Option<String>,
}

/// The lock's name, as SQL.
fn lock_name() -> String {
    format!("CONCAT('verax.share.{SHARE}.', DATABASE())")
}

impl Records {
    /// Takes the lease, and waits for it for some seconds while another has it.
    ///
    /// # Errors
    /// [`RecordsError::HeldByOther`] when another has it all that time,
    /// [`RecordsError::Unavailable`].
    pub async fn acquire_lease(&self, wait: Duration) -> Result<Lease, RecordsError> {
        // From here on the connection is closed with the lease, whatever happens.
        let mut lease = Lease { connection: Some(connect(self.url()).await?) };
        let wait_seconds = wait.as_secs();
        let get = format!("SELECT GET_LOCK({}, {wait_seconds}) AS yes", lock_name());
        let asking = async {
            let connection = lease.connection()?;
            let silence = format!("SET SESSION wait_timeout = {SILENCE_SECONDS}");
            connection.batch_execute(&silence).await?;
            let got: Yes = diesel::sql_query(get).get_result(connection).await?;
            if got.yes == 1 {
                return Ok(());
            }
            // Who it is can be seen of one's own sessions without further rights.
            let of = format!(
                "SELECT host FROM information_schema.processlist WHERE id = IS_USED_LOCK({})",
                lock_name()
            );
            let holder = diesel::sql_query(of).get_result::<Holder>(connection).await;
            let host = holder.ok().and_then(|holder| holder.host);
            Err(RecordsError::HeldByOther(host.unwrap_or_else(|| "an unknown host".into())))
        };
        match tokio::time::timeout(wait + CONFIRM_TIMEOUT, asking).await {
            Ok(Ok(())) => Ok(lease),
            Ok(Err(error)) => Err(error),
            Err(_) => Err(RecordsError::Unavailable("no answer about the lease".into())),
        }
    }
}

impl Lease {
    fn connection(&mut self) -> Result<&mut AsyncMysqlConnection, RecordsError> {
        self.connection
            .as_mut()
            .ok_or_else(|| RecordsError::Unavailable("the lease is over".into()))
    }

    /// Makes sure that the lease is still held.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`] when that cannot be told, or it is over: its connection is
    /// closed then, and the lease must be taken anew.
    pub async fn confirm(&mut self) -> Result<(), RecordsError> {
        let ask = format!("SELECT IS_USED_LOCK({}) <=> CONNECTION_ID() AS yes", lock_name());
        let asking = async {
            let held: Yes = diesel::sql_query(ask).get_result(self.connection()?).await?;
            Ok::<_, RecordsError>(held.yes == 1)
        };
        match tokio::time::timeout(CONFIRM_TIMEOUT, asking).await {
            Ok(Ok(true)) => Ok(()),
            other => {
                self.connection.take().into_iter().for_each(close);
                let error = match other {
                    Ok(Err(error)) => error,
                    _ => RecordsError::Unavailable(
                        "the lease on the records is not confirmed".into(),
                    ),
                };
                Err(error)
            }
        }
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        if let Some(connection) = self.connection.take() {
            close(connection);
        }
    }
}
