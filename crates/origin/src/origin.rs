//! An origin of any kind: reads and writes behind its gate.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;
use std::time::{Duration, Instant};

use url::Url;
use verax_core::OriginSettings;
use verax_core::guard::endpoints::Health;
use verax_core::origin::OriginSource;

use crate::credentials::{Credentials, Secret};
use crate::error::OriginError;
use crate::gate::{Gate, SparePlace};
use crate::http::template::InvalidTemplate;
use crate::http::{HttpReader, InvalidListing};
use crate::sql::{InvalidQuery, SqlReader};
use crate::state::OriginState;
use crate::value::{OriginValue, OriginWrite, TraceContext};

/// The maximum delay of a retry on the server that has just failed.
const MAX_PAUSE: Duration = Duration::from_millis(50);

/// With less time left than this, there is no retry.
const MIN_TRY: Duration = Duration::from_millis(5);

/// Distinguishes the failures of one key from those of others.
fn source_of(values: &[(&str, &str)]) -> u64 {
    let mut hasher = DefaultHasher::new();
    values.hash(&mut hasher);
    hasher.finish()
}

/// Why settings are not valid for an origin.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidOrigin {
    /// The URL of an HTTP service.
    #[error(transparent)]
    Template(#[from] InvalidTemplate),
    /// The URL or the query of a database.
    #[error(transparent)]
    Query(#[from] InvalidQuery),
}

#[derive(Debug)]
enum Reader {
    Http(HttpReader),
    Sql(SqlReader),
}

/// An origin.
#[derive(Debug)]
pub struct Origin {
    reader: Reader,
    gate: Arc<Gate>,
    total_timeout: Duration,
    slow_after: Option<Duration>,
}

impl Origin {
    /// Creates an origin with `settings`, whose secret comes from `credentials`. It connects on
    /// first use.
    ///
    /// # Errors
    /// [`InvalidOrigin`] when its URL or its query cannot be read.
    pub fn new(
        settings: &OriginSettings,
        credentials: &Arc<Credentials>,
    ) -> Result<Self, InvalidOrigin> {
        let secret = settings.credential.clone().map(|name| Secret::new(name, credentials));
        let (reader, balance, slow_after) = match &settings.source {
            OriginSource::Http { balance, slow_after, .. } => {
                (Reader::Http(HttpReader::new(settings, secret)?), *balance, *slow_after)
            }
            OriginSource::Sql { .. } => {
                (Reader::Sql(SqlReader::new(settings, secret)?), Default::default(), None)
            }
        };
        let servers = match &reader {
            Reader::Http(http) => http.servers().len(),
            Reader::Sql(_) => 1,
        };
        let gate = Arc::new(Gate::new(servers, balance, settings.guard));
        Ok(Self { reader, gate, total_timeout: settings.total_timeout, slow_after })
    }

    /// The host and port of its database, if it is a query.
    pub fn database(&self) -> Option<(&str, u16)> {
        match &self.reader {
            Reader::Http(_) => None,
            Reader::Sql(sql) => Some(sql.server()),
        }
    }

    /// The hosts that it reads from, without ports.
    pub fn hosts(&self) -> Vec<String> {
        match &self.reader {
            Reader::Http(http) => {
                http.servers().iter().filter_map(|url| url.host_str()).map(str::to_owned).collect()
            }
            Reader::Sql(sql) => vec![sql.server().0.to_owned()],
        }
    }

    /// The timeout from the request to the last byte, including a retry.
    pub fn total_timeout(&self) -> Duration {
        self.total_timeout
    }

    /// The variables of its URL template or query.
    pub fn variables(&self) -> Vec<String> {
        match &self.reader {
            Reader::Http(http) => http.variables(),
            Reader::Sql(sql) => sql.variables(),
        }
    }

    /// Whether it can be written to.
    pub fn takes_writes(&self) -> bool {
        matches!(self.reader, Reader::Http(_))
    }

    /// Its HTTP service, if it is one.
    pub fn http(&self) -> Option<&HttpReader> {
        match &self.reader {
            Reader::Http(http) => Some(http),
            Reader::Sql(_) => None,
        }
    }

    async fn read_at(
        &self,
        server: usize,
        values: &[(&str, &str)],
        trace: Option<&TraceContext>,
        deadline: Instant,
    ) -> Result<OriginValue, OriginError> {
        match &self.reader {
            Reader::Http(http) => http.read_at(server, values, trace, deadline).await,
            Reader::Sql(sql) => sql.read(values, deadline).await,
        }
    }

    /// Reads the value of a key without the gate: from the servers in turn, healthy or not.
    ///
    /// # Errors
    /// [`OriginError`] says what went wrong, and where.
    pub async fn read(
        &self,
        values: &[(&str, &str)],
        trace: Option<&TraceContext>,
    ) -> Result<OriginValue, OriginError> {
        let deadline = Instant::now() + self.total_timeout;
        self.read_at(self.gate.in_turn(), values, trace, deadline).await
    }

    /// [`read`](Self::read) through the gate: limited concurrency with a bounded queue, a circuit
    /// breaker for each server, and a retry budget. With a `place` it need not wait for one.
    ///
    /// # Errors
    /// [`OriginError`]; [`OriginError::CircuitOpen`] and [`OriginError::Busy`] if it was not read.
    pub async fn read_guarded(
        &self,
        values: &[(&str, &str)],
        trace: Option<&TraceContext>,
        place: Option<SparePlace>,
    ) -> Result<OriginValue, OriginError> {
        // A key that makes no URL, or a missing secret, does not count against the origin.
        self.check(values).await?;
        let deadline = Instant::now() + self.total_timeout;
        let pass = match place {
            Some(place) => self.gate.enter_with(place),
            None => self.gate.enter(deadline).await?,
        };
        let mut before: Option<(usize, OriginError)> = None;
        loop {
            let attempt = match (pass.attempt(before.as_ref().map(|(server, _)| *server)), before) {
                (Ok(attempt), before) => {
                    if before.is_some_and(|(server, _)| server == attempt.server()) {
                        tokio::time::sleep(MAX_PAUSE.mul_f64(rand::random())).await;
                    }
                    attempt
                }
                (Err(_), Some((_, error))) => return Err(error),
                (Err(error), None) => return Err(error),
            };
            let (server, started) = (attempt.server(), Instant::now());
            let again = !attempt.is_second();
            let outcome = self.read_at(server, values, trace, deadline).await;
            let health = self.health(source_of(values), &outcome, started.elapsed());
            attempt.ended(health);
            match outcome {
                Err(error)
                    if again
                        && matches!(health, Health::Failed | Health::FailedFor(_))
                        && deadline.saturating_duration_since(Instant::now()) > MIN_TRY
                        && self.gate.may_retry() =>
                {
                    before = Some((server, error));
                }
                outcome => return outcome,
            }
        }
    }

    /// Writes a change to one of the origin's servers through the gate, without retries.
    ///
    /// # Errors
    /// [`OriginError`]; [`OriginError::is_certain`] says whether nothing changed.
    pub async fn write_guarded(
        &self,
        values: &[(&str, &str)],
        write: OriginWrite<'_>,
        trace: Option<&TraceContext>,
    ) -> Result<(), OriginError> {
        let Reader::Http(http) = &self.reader else { return Err(OriginError::ReadOnly) };
        self.check(values).await?;
        let deadline = Instant::now() + self.total_timeout;
        let pass = self.gate.enter(deadline).await?;
        let attempt = pass.attempt(None)?;
        let started = Instant::now();
        let outcome = http.write_at(attempt.server(), values, write, trace, deadline).await;
        attempt.ended(self.health(source_of(values), &outcome, started.elapsed()));
        outcome
    }

    /// Checks that a key can be read at all.
    async fn check(&self, values: &[(&str, &str)]) -> Result<(), OriginError> {
        match &self.reader {
            Reader::Http(http) => http.check(values).await,
            Reader::Sql(sql) => sql.check().await,
        }
    }

    /// How an outcome counts for the server: one without such a value is healthy.
    fn health<T>(&self, source: u64, outcome: &Result<T, OriginError>, took: Duration) -> Health {
        match outcome {
            Err(error) if error.may_be_the_values() => Health::FailedFor(source),
            Err(error) if error.speaks_against_the_server() => Health::Failed,
            _ if self.slow_after.is_some_and(|limit| took > limit) => Health::Slow,
            _ => Health::Well,
        }
    }

    /// Takes a place at its gate once other callers leave one free: never the last, and no more
    /// than `most` at a time.
    pub async fn spare_place(&self, most: u32) -> SparePlace {
        self.gate.spare_place(most as usize).await
    }

    /// The most concurrent calls.
    pub fn max_concurrency(&self) -> u32 {
        self.gate.max_concurrency()
    }

    /// Whether the circuits of all its servers are open: a read now would be refused.
    pub fn is_shut(&self) -> bool {
        self.gate.is_shut()
    }

    /// The state of its circuits, and the number of active and queued calls.
    pub fn state(&self) -> OriginState {
        let urls = match &self.reader {
            Reader::Http(http) => {
                let plain = |url: &Url| url.as_str().trim_end_matches('/').to_owned();
                http.servers().iter().map(plain).collect()
            }
            Reader::Sql(sql) => vec![sql.url().to_owned()],
        };
        self.gate.state(urls)
    }
}

impl Origin {
    /// Reads the items of a JSON array, page by page, from a URL reference on this origin's server;
    /// at most `most`.
    ///
    /// # Errors
    /// [`InvalidListing`].
    pub async fn read_listing(
        &self,
        reference: &str,
        most: usize,
    ) -> Result<Vec<serde_json::Value>, InvalidListing> {
        self.http().ok_or(InvalidListing::NoListings)?.read_listing(reference, most).await
    }
}
