//! The handle on the records: a few connections, and a timeout on every exchange.
//!
//! A connection is taken from the idle list for one exchange and returned only if that exchange
//! ended with a response. In every other case (a timeout, a broken connection, a caller that is
//! gone) it is closed, and MariaDB rolls back: a late response can never be read as the response to
//! a later query.

use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use diesel_async::{AsyncMysqlConnection, SimpleAsyncConnection};
use mysql_async::{Conn, Opts, OptsBuilder};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::error::RecordsError;

/// The maximum number of connections to MariaDB; records are read at the start and written by
/// administrators.
const MAX_CONNECTIONS: usize = 4;

/// The timeout to connect.
pub(crate) const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);

/// The timeout of an exchange.
pub(crate) const EXCHANGE_TIMEOUT: Duration = Duration::from_secs(10);

/// The timeout of a ping, and of the wait for a connection.
const PING_TIMEOUT: Duration = Duration::from_secs(2);

/// TCP keep-alive begins after this much silence, so that a connection to a dead peer ends.
const TCP_KEEPALIVE: Duration = Duration::from_secs(5);

/// The settings of every session. MariaDB rolls back an abandoned transaction by itself, even if
/// the end of the connection never reaches it, as soon as the lease expires, since its locks would
/// keep a standby from taking over.
const SESSION: &str = "SET SESSION idle_transaction_timeout = 3, innodb_lock_wait_timeout = 5, \
     lock_wait_timeout = 10, sql_mode = 'TRADITIONAL'";

/// A handle on the records. Cloning shares the connections.
#[derive(Clone)]
pub(crate) struct MariaDb {
    url: Arc<str>,
    places: Arc<Semaphore>,
    idle: Arc<Mutex<Vec<AsyncMysqlConnection>>>,
    /// The epoch with which this node owns the share of the keys, which every change checks; zero
    /// for a handle without a node, whose changes check nothing.
    owned_epoch: Arc<AtomicU32>,
}

impl std::fmt::Debug for MariaDb {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The URL contains a password, so it is not printed.
        f.debug_struct("MariaDb").finish_non_exhaustive()
    }
}

impl MariaDb {
    /// A handle on records whose MariaDB may be away. It connects on first use; call
    /// [`prepare`](Self::prepare) first.
    pub(crate) fn later(url: impl Into<Arc<str>>) -> Self {
        Self {
            url: url.into(),
            places: Arc::new(Semaphore::new(MAX_CONNECTIONS)),
            idle: Arc::default(),
            owned_epoch: Arc::default(),
        }
    }

    pub(crate) fn owned_epoch(&self) -> u32 {
        self.owned_epoch.load(Ordering::Acquire)
    }

    pub(crate) fn set_owned_epoch(&self, epoch: u32) {
        self.owned_epoch.store(epoch, Ordering::Release);
    }

    /// The URL of these records, including the password.
    pub(crate) fn url(&self) -> &str {
        &self.url
    }

    /// The host and port of the server; `None` over a socket.
    pub(crate) fn server(&self) -> Option<(String, u16)> {
        let options = Opts::from_url(&self.url).ok()?;
        options.socket().is_none().then(|| (options.ip_or_hostname().into(), options.tcp_port()))
    }

    /// Pings MariaDB.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`] when there is none in time.
    pub(crate) async fn ping(&self) -> Result<(), RecordsError> {
        self.exchange(async |connection| ping(connection).await).await
    }

    /// One exchange with MariaDB, with a timeout. Dropping it closes its connection.
    pub(crate) async fn exchange<R>(
        &self,
        call: impl AsyncFnOnce(&mut AsyncMysqlConnection) -> Result<R, RecordsError>,
    ) -> Result<R, RecordsError> {
        let mut lent = self.lend().await?;
        let result = within(EXCHANGE_TIMEOUT, call(lent.connection()?)).await;
        if result.as_ref().map_or_else(RecordsError::is_answer, |_| true) {
            lent.give_back();
        }
        result
    }

    /// Takes a connection for an exchange: an idle one that still responds, otherwise a new one.
    pub(crate) async fn lend(&self) -> Result<Lent, RecordsError> {
        let place = within(PING_TIMEOUT, async {
            let place = Arc::clone(&self.places).acquire_owned().await;
            place.map_err(|e| RecordsError::Unavailable(e.to_string()))
        })
        .await?;
        let mut lent = Lent { idle: Arc::clone(&self.idle), connection: None, _place: place };
        lent.connection = lock(&self.idle).pop();
        if let Some(connection) = &mut lent.connection {
            match within(PING_TIMEOUT, ping(connection)).await {
                Ok(()) => return Ok(lent),
                Err(_) => {
                    // What broke one connection has usually broken all.
                    let others = std::mem::take(&mut *lock(&self.idle));
                    lent.connection.take().into_iter().chain(others).for_each(close);
                }
            }
        }
        lent.connection = Some(connect(&self.url).await?);
        Ok(lent)
    }
}

fn lock(
    idle: &Mutex<Vec<AsyncMysqlConnection>>,
) -> std::sync::MutexGuard<'_, Vec<AsyncMysqlConnection>> {
    idle.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs a step with a timeout.
async fn within<R>(
    limit: Duration,
    step: impl Future<Output = Result<R, RecordsError>>,
) -> Result<R, RecordsError> {
    tokio::time::timeout(limit, step).await.unwrap_or_else(|_| {
        Err(RecordsError::Unavailable(format!("no answer within {} seconds", limit.as_secs())))
    })
}

async fn ping(connection: &mut AsyncMysqlConnection) -> Result<(), RecordsError> {
    Ok(connection.batch_execute("DO 1").await?)
}

/// Opens a connection and sets up its session.
///
/// # Errors
/// [`RecordsError::Unavailable`] if there is none within [`CONNECT_TIMEOUT`].
pub(crate) async fn connect(url: &str) -> Result<AsyncMysqlConnection, RecordsError> {
    let unavailable = |e: &dyn std::fmt::Display| RecordsError::Unavailable(e.to_string());
    let options = Opts::from_url(url).map_err(|e| unavailable(&e))?;
    let keepalive = u32::try_from(TCP_KEEPALIVE.as_millis()).ok();
    let options = OptsBuilder::from_opts(options)
        // Only the URL decides about TCP or socket: MariaDB's own hint could lead elsewhere.
        .prefer_socket(false)
        .tcp_keepalive(keepalive)
        .setup(vec![SESSION]);
    within(CONNECT_TIMEOUT, async {
        let connection = Conn::new(options).await.map_err(|e| unavailable(&e))?;
        AsyncMysqlConnection::try_from(connection).await.map_err(|e| unavailable(&e))
    })
    .await
}

/// Closes a connection without a goodbye, regardless of its state.
///
/// The driver sends a goodbye in a task of the runtime, after pending responses: on a hanging
/// server, that takes forever. Outside a runtime it just closes the socket.
pub(crate) fn close(connection: AsyncMysqlConnection) {
    let closed =
        std::thread::Builder::new().name("records-close".into()).spawn(move || drop(connection));
    if let Err(error) = closed {
        tracing::warn!(%error, "a connection to MariaDB is closed only when MariaDB answers");
    }
}

/// A connection lent for one exchange. Unless it is [given back](Self::give_back), it is closed.
pub(crate) struct Lent {
    idle: Arc<Mutex<Vec<AsyncMysqlConnection>>>,
    connection: Option<AsyncMysqlConnection>,
    _place: OwnedSemaphorePermit,
}

impl Lent {
    pub(crate) fn connection(&mut self) -> Result<&mut AsyncMysqlConnection, RecordsError> {
        self.connection
            .as_mut()
            .ok_or_else(|| RecordsError::Unavailable("the connection was closed".into()))
    }

    /// Returns the connection after a complete exchange.
    pub(crate) fn give_back(mut self) {
        if let Some(connection) = self.connection.take() {
            lock(&self.idle).push(connection);
        }
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        if let Some(connection) = self.connection.take() {
            close(connection);
        }
    }
}
