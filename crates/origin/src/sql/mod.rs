//! An origin that is a query to a MariaDB: a read-only session, values from the key bound as
//! parameters and never interpolated, limits on time, rows and size, and the result as JSON.

mod json;
mod query;

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Error, Opts, OptsBuilder, Params, Pool, PoolConstraints, PoolOpts, Value};
use verax_core::OriginSettings;
use verax_core::origin::{OriginSource, SqlResult};

use crate::credentials::Secret;
use crate::error::OriginError;
use crate::value::OriginValue;
use query::{Database, Query};

pub use query::InvalidQuery;

/// MariaDB's error for a statement that took too long.
const STATEMENT_TIMEOUT: u16 = 1969;

/// By how much the client's timeout exceeds MariaDB's own, so that MariaDB's error comes first.
const GRACE: Duration = Duration::from_millis(250);

/// A connection unused for this long is closed.
const IDLE_TIMEOUT: Duration = Duration::from_secs(60);

/// A MariaDB with a pool of connections.
#[derive(Debug)]
pub(crate) struct SqlReader {
    url: String,
    database: Database,
    query: Query,
    result: SqlResult,
    max_rows: u32,
    secret: Option<Secret>,
    connections: usize,
    connect_timeout: Duration,
    total_timeout: Duration,
    max_response_bytes: u64,
    /// The pool, and the password it was opened with.
    pool: Mutex<Option<(Arc<str>, Pool)>>,
}

impl SqlReader {
    pub(crate) fn new(
        settings: &OriginSettings,
        secret: Option<Secret>,
    ) -> Result<Self, InvalidQuery> {
        let OriginSource::Sql { url, query, result, max_rows } = &settings.source else {
            return Err(InvalidQuery::NoSelect(String::new()));
        };
        Ok(Self {
            url: url.clone(),
            database: Database::parse(url)?,
            query: Query::parse(query)?,
            result: *result,
            max_rows: *max_rows,
            secret,
            connections: settings.guard.max_concurrency as usize,
            connect_timeout: settings.connect_timeout,
            total_timeout: settings.total_timeout,
            max_response_bytes: settings.max_response_bytes,
            pool: Mutex::default(),
        })
    }

    pub(crate) fn url(&self) -> &str {
        &self.url
    }

    /// Host and port.
    pub(crate) fn server(&self) -> (&str, u16) {
        (&self.database.host, self.database.port)
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        let mut names = self.query.names.clone();
        names.sort();
        names.dedup();
        names
    }

    /// Checks that the secret is readable.
    pub(crate) async fn check(&self) -> Result<(), OriginError> {
        self.password().await.map(drop)
    }

    async fn password(&self) -> Result<Arc<str>, OriginError> {
        match &self.secret {
            Some(secret) => secret.read().await.map_err(OriginError::from),
            None => Ok("".into()),
        }
    }

    /// The pool; a new one when the password has changed.
    async fn pool(&self) -> Result<Pool, OriginError> {
        let password = self.password().await?;
        let mut kept = self.pool.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((of, pool)) = &*kept
            && *of == password
        {
            return Ok(pool.clone());
        }
        let pool = Pool::new(self.options(&password));
        *kept = Some((password, pool.clone()));
        Ok(pool)
    }

    fn options(&self, password: &str) -> Opts {
        let seconds = self.total_timeout.as_secs_f64();
        // One row more than allowed, to detect too many without reading them all.
        let rows = u64::from(self.max_rows) + 1;
        let session = format!(
            "SET SESSION tx_read_only = 1, max_statement_time = {seconds:.3}, \
             sql_select_limit = {rows}, time_zone = '+00:00'"
        );
        let constraints = PoolConstraints::new(0, self.connections.max(1)).unwrap_or_default();
        // A host in brackets is an IPv6 address.
        let host = self.database.host.trim_matches(['[', ']']);
        OptsBuilder::default()
            .ip_or_hostname(host)
            .tcp_port(self.database.port)
            .user(Some(&self.database.user))
            .pass(Some(password))
            .db_name(Some(&self.database.name))
            .prefer_socket(false)
            .setup(vec![session])
            .pool_opts(
                // Connections are reused, with a session reset before each read: anything a query
                // left (variables, locks) is gone.
                PoolOpts::default()
                    .with_constraints(constraints)
                    .with_inactive_connection_ttl(IDLE_TIMEOUT)
                    .with_ttl_check_interval(IDLE_TIMEOUT / 4)
                    .with_reset_connection(true),
            )
            .into()
    }

    /// Reads the rows of a key's values.
    pub(crate) async fn read(
        &self,
        values: &[(&str, &str)],
        deadline: Instant,
    ) -> Result<OriginValue, OriginError> {
        let started = Instant::now();
        let url = || self.url.clone();
        let pool = self.pool().await?;
        let connected_by = deadline.min(started + self.connect_timeout);
        let connecting = tokio::time::timeout_at(connected_by.into(), pool.get_conn());
        let mut connection = match connecting.await {
            Ok(connection) => connection.map_err(|e| self.error_of(&e))?,
            Err(_) => {
                let reason =
                    format!("no connection within {} ms", self.connect_timeout.as_millis());
                return Err(OriginError::Connect { url: url(), reason });
            }
        };
        let late = || OriginError::Timeout { url: url(), limit: self.total_timeout };
        let rows =
            tokio::time::timeout_at((deadline + GRACE).into(), self.rows(&mut connection, values));
        let rows = match rows.await {
            Ok(Ok(rows)) => rows,
            failed => {
                // Unwanted rows are not read to the end.
                drop(connection.disconnect());
                return Err(failed.map_or_else(|_| late(), |read| read.err().unwrap_or_else(late)));
            }
        };
        Ok(OriginValue {
            value: rows.into(),
            media_type: "application/json".into(),
            cache_groups: None,
            no_store: false,
            took: started.elapsed(),
        })
    }

    async fn rows(
        &self,
        connection: &mut Conn,
        values: &[(&str, &str)],
    ) -> Result<Vec<u8>, OriginError> {
        let url = || self.url.clone();
        let given: HashMap<&str, &str> = values.iter().copied().collect();
        let bound: Vec<Value> = self
            .query
            .names
            .iter()
            .map(|name| given.get(name.as_str()).map_or(Value::NULL, |value| Value::from(*value)))
            .collect();
        let parameters = if bound.is_empty() { Params::Empty } else { Params::Positional(bound) };
        let mut result = connection
            .exec_iter(self.query.text.as_str(), parameters)
            .await
            .map_err(|e| self.error_of(&e))?;
        let (mut out, mut rows) = (Vec::new(), 0u32);
        while let Some(row) = result.next().await.map_err(|e| self.error_of(&e))? {
            rows += 1;
            match self.result {
                SqlResult::Row if rows > 1 => {
                    let reason =
                        "it returned more than one row; set the result to rows, or add a LIMIT";
                    return Err(OriginError::Query { url: url(), reason: reason.into() });
                }
                SqlResult::Rows if rows > self.max_rows => {
                    return Err(OriginError::TooManyRows { url: url(), limit: self.max_rows });
                }
                SqlResult::Rows => out.push(if rows == 1 { b'[' } else { b',' }),
                SqlResult::Row => {}
            }
            json::write_row(&mut out, &row);
            if out.len() as u64 > self.max_response_bytes {
                return Err(OriginError::TooLarge { url: url(), limit: self.max_response_bytes });
            }
        }
        match (self.result, rows) {
            (SqlResult::Row, 0) => Err(OriginError::NoValue { url: url(), status: None }),
            (SqlResult::Row, _) => Ok(out),
            (SqlResult::Rows, 0) => Ok(b"[]".to_vec()),
            (SqlResult::Rows, _) => {
                out.push(b']');
                Ok(out)
            }
        }
    }

    fn error_of(&self, error: &Error) -> OriginError {
        let (url, reason) = (self.url.clone(), error.to_string());
        match error {
            Error::Server(server) if server.code == STATEMENT_TIMEOUT => {
                OriginError::Timeout { url, limit: self.total_timeout }
            }
            // Access denied, too many connections, a shutdown and the like do not concern the
            // query.
            Error::Server(server)
                if matches!(server.code, 1040 | 1044 | 1045 | 1049 | 1053 | 1203 | 1927) =>
            {
                OriginError::Connect { url, reason: server.message.clone() }
            }
            Error::Server(server) => OriginError::Query { url, reason: server.message.clone() },
            Error::Io(_) | Error::Driver(_) => OriginError::Connect { url, reason },
            Error::Other(_) | Error::Url(_) => OriginError::Query { url, reason },
        }
    }
}
