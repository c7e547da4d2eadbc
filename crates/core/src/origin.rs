//! How an origin is read.

use std::ops::RangeInclusive;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::name::Name;
use crate::policy::MAX_VALUE_BYTES;

/// How an origin is read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OriginSettings {
    /// What it is, and where.
    pub source: OriginSource,
    /// The name of its credential, which is stored outside the records.
    pub credential: Option<Name>,
    /// The timeout to connect.
    pub connect_timeout: Duration,
    /// The longest time from the request to the last byte.
    pub total_timeout: Duration,
    /// The largest response, in bytes.
    pub max_response_bytes: u64,
    /// Its overload protection.
    pub guard: OriginGuard,
    /// The URL references on its server that runs may read lists of values from.
    #[serde(default)]
    pub listings: Vec<String>,
    /// The namespaces whose own managers may bind to it. Managers of the whole tenant always may.
    #[serde(default)]
    pub open_to: Vec<Name>,
}

/// What an origin is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum OriginSource {
    /// An HTTP service on one server, or on several replicas.
    Http {
        /// A URL template (RFC 6570) with the variables of the key patterns that are bound to it.
        url: String,
        /// Further servers, as `http://host:port`: the template's path is read from any of them.
        endpoints: Vec<String>,
        /// How a server is picked.
        balance: Balance,
        /// A slower response counts as a failure of its server while another server is healthy.
        slow_after: Option<Duration>,
    },
    /// A query to a MariaDB.
    Sql {
        /// `mysql://user@host:port/database`.
        url: String,
        /// A SELECT with `:name` for each value from the key.
        query: String,
        /// How its result becomes a value.
        result: SqlResult,
        /// The most rows.
        max_rows: u32,
    },
}

/// How one of several servers is picked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum Balance {
    /// One after the other.
    #[default]
    RoundRobin,
    /// The one with the fewest reads in flight.
    LeastOutstanding,
}

/// How the result of a query becomes a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum SqlResult {
    /// A JSON array of all rows, which may be empty.
    #[default]
    Rows,
    /// The only row, as a JSON object; no row is no value.
    Row,
}

/// The overload protection of an origin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct OriginGuard {
    /// The most concurrent reads; further ones are queued.
    pub max_concurrency: u32,
    /// The most queued reads.
    pub max_queue: u32,
    /// How many reads in a hundred may be retried after a failure.
    pub retry_budget_percent: u8,
    /// Consecutive failures that open a server's circuit.
    pub failure_threshold: u32,
    /// How long the circuit stays open at first; twice as long after each failed probe.
    pub open_for: Duration,
}

impl Default for OriginGuard {
    fn default() -> Self {
        Self {
            max_concurrency: 256,
            max_queue: 10_000,
            retry_budget_percent: 10,
            failure_threshold: 5,
            open_for: Duration::from_millis(500),
        }
    }
}

/// What a timeout of an origin may be, in milliseconds.
pub const TIMEOUTS_MS: RangeInclusive<u64> = 1..=300_000;

/// What the largest response may be, in bytes.
pub const RESPONSE_BYTES: RangeInclusive<u64> = 1..=MAX_VALUE_BYTES;

/// The range of concurrent reads.
pub const READS_AT_ONCE: RangeInclusive<u64> = 1..=10_000;

/// The range of queued reads.
pub const QUEUES: RangeInclusive<u64> = 0..=1_000_000;

/// How many reads in a hundred may be retried.
pub const RETRY_PERCENTS: RangeInclusive<u64> = 0..=100;

/// The range of the failure threshold.
pub const FAILURES: RangeInclusive<u64> = 1..=1_000;

/// The range of the open time, in milliseconds.
pub const PAUSES_MS: RangeInclusive<u64> = 10..=60_000;

/// The most servers of one origin.
pub const MAX_ENDPOINTS: usize = 32;

/// The longest query, in bytes.
pub const MAX_QUERY_BYTES: usize = 16 << 10;

/// The range of rows of a query.
pub const ROWS: RangeInclusive<u64> = 1..=1_000_000;

/// The most listings of an origin, and the most namespaces that it is open to.
pub const MAX_LISTED: usize = 100;

/// Why an origin's settings are refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidOriginSettings {
    /// A number is out of its range.
    #[error("{part} of {given} is out of range: use {least} to {most}")]
    Range {
        /// Which setting.
        part: &'static str,
        /// The number.
        given: u64,
        /// The smallest one allowed.
        least: u64,
        /// The largest one allowed.
        most: u64,
    },
    /// Too many servers.
    #[error("an origin of {0} servers is too large: use at most {MAX_ENDPOINTS}")]
    TooManyEndpoints(usize),
    /// Too many listings, or namespaces that it is open to.
    #[error(
        "an origin has at most {MAX_LISTED} listings, and is open to at most as many namespaces"
    )]
    TooManyListed,
    /// A listing that is not a path.
    #[error(
        "{0:?} is not a listing: write a path on the origin's server that starts with /, of at most 500 bytes"
    )]
    Listing(String),
    /// A query that is too long.
    #[error("a query of {0} bytes is too long: use at most {MAX_QUERY_BYTES}")]
    QueryTooLong(usize),
}

impl OriginSettings {
    /// Settings with the default limits: one second to connect, ten in all, 8 MiB.
    pub fn of(source: OriginSource) -> Self {
        Self {
            source,
            credential: None,
            connect_timeout: Duration::from_secs(1),
            total_timeout: Duration::from_secs(10),
            max_response_bytes: 8 << 20,
            guard: OriginGuard::default(),
            listings: Vec::new(),
            open_to: Vec::new(),
        }
    }

    /// An HTTP service on one server, with the default limits.
    pub fn http(url: impl Into<String>) -> Self {
        Self::of(OriginSource::Http {
            url: url.into(),
            endpoints: Vec::new(),
            balance: Balance::default(),
            slow_after: None,
        })
    }

    /// A query to a MariaDB, with the default limits and at most 10,000 rows. Each read takes a
    /// database connection, so at most 32 run concurrently.
    pub fn sql(url: impl Into<String>, query: impl Into<String>) -> Self {
        let mut settings = Self::of(OriginSource::Sql {
            url: url.into(),
            query: query.into(),
            result: SqlResult::default(),
            max_rows: 10_000,
        });
        settings.guard.max_concurrency = 32;
        settings
    }

    /// Where it is: a URL template or the URL of a database.
    pub fn url(&self) -> &str {
        match &self.source {
            OriginSource::Http { url, .. } | OriginSource::Sql { url, .. } => url,
        }
    }

    /// Checks the numbers; URLs and the query are checked where they are read.
    ///
    /// # Errors
    /// [`InvalidOriginSettings`] names the first number out of range.
    pub fn check(&self) -> Result<(), InvalidOriginSettings> {
        let guard = &self.guard;
        let ms = |time: Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
        if self.listings.len() > MAX_LISTED || self.open_to.len() > MAX_LISTED {
            return Err(InvalidOriginSettings::TooManyListed);
        }
        let is_path =
            |path: &&String| path.starts_with('/') && !path.starts_with("//") && path.len() <= 500;
        if let Some(listing) = self.listings.iter().find(|listing| !is_path(listing)) {
            return Err(InvalidOriginSettings::Listing(listing.clone()));
        }
        let mut ranges = vec![
            ("connect_timeout_ms", ms(self.connect_timeout), TIMEOUTS_MS),
            ("total_timeout_ms", ms(self.total_timeout), TIMEOUTS_MS),
            ("max_response_bytes", self.max_response_bytes, RESPONSE_BYTES),
            ("max_concurrency", guard.max_concurrency.into(), READS_AT_ONCE),
            ("max_queue", guard.max_queue.into(), QUEUES),
            ("retry_budget_percent", guard.retry_budget_percent.into(), RETRY_PERCENTS),
            ("failure_threshold", guard.failure_threshold.into(), FAILURES),
            ("open_for_ms", ms(guard.open_for), PAUSES_MS),
        ];
        match &self.source {
            OriginSource::Http { endpoints, slow_after, .. } => {
                if endpoints.len() >= MAX_ENDPOINTS {
                    return Err(InvalidOriginSettings::TooManyEndpoints(endpoints.len() + 1));
                }
                if let Some(time) = slow_after {
                    ranges.push(("slow_after_ms", ms(*time), TIMEOUTS_MS));
                }
            }
            OriginSource::Sql { query, max_rows, .. } => {
                if query.len() > MAX_QUERY_BYTES {
                    return Err(InvalidOriginSettings::QueryTooLong(query.len()));
                }
                ranges.push(("max_rows", (*max_rows).into(), ROWS));
            }
        }
        for (part, given, range) in ranges {
            if !range.contains(&given) {
                let (least, most) = range.into_inner();
                return Err(InvalidOriginSettings::Range { part, given, least, most });
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(|s: &mut OriginSettings| s.connect_timeout = Duration::ZERO, "connect_timeout_ms of 0 ")]
    #[case(|s: &mut OriginSettings| s.total_timeout = Duration::from_secs(301), "total_timeout_ms of 301000 ")]
    #[case(|s: &mut OriginSettings| s.max_response_bytes = MAX_VALUE_BYTES + 1, "max_response_bytes of ")]
    #[case(|s: &mut OriginSettings| s.guard.max_concurrency = 0, "max_concurrency of 0 ")]
    #[case(|s: &mut OriginSettings| s.guard.retry_budget_percent = 101, "retry_budget_percent of 101 ")]
    #[case(|s: &mut OriginSettings| s.guard.open_for = Duration::ZERO, "open_for_ms of 0 ")]
    #[case(|s: &mut OriginSettings| s.listings = vec!["/here".into(), "//elsewhere".into()], "\"//elsewhere\" is not a listing")]
    #[case(|s: &mut OriginSettings| s.listings = vec!["/a".into(); MAX_LISTED + 1], "an origin has at most 100 ")]
    fn settings_out_of_range_are_named(
        #[case] spoil: fn(&mut OriginSettings),
        #[case] message: &str,
    ) {
        let mut settings = OriginSettings::http("http://h/{key}");
        assert_eq!(settings.check(), Ok(()));
        spoil(&mut settings);
        let error = settings.check().unwrap_err().to_string();
        assert!(error.starts_with(message), "{error}");
    }
}
