//! A handle's options, events, and results.

use std::fmt;
use std::time::Duration;

use bytes::Bytes;

use super::events::EventHook;
use super::near::NearCopies;
use crate::options::PutOptions;
use crate::trace::TraceHook;
use verax_core::source::Source;

/// Options of a [`Cache`](super::Cache).
#[derive(Clone)]
pub struct CacheOptions {
    /// The number of connections, each shared by many calls; 2 by default.
    pub connections: usize,
    /// The timeout of a call; one second by default.
    pub timeout: Duration,
    /// How long [`Cache::get_or_refill`](super::Cache::get_or_refill) waits for Verax before it
    /// refills by itself; 50 milliseconds by default.
    pub bound: Duration,
    /// How long [`Cache::get_or_refill`](super::Cache::get_or_refill) waits while another caller
    /// refills the key, before it refills by itself and stores nothing; 5 seconds by default.
    pub refill_wait: Duration,
    /// How long a refill may take before another caller may refill; 30 seconds by default.
    pub refill_lease: Duration,
    /// Near copies; `None`, the default, keeps none.
    pub near_copies: Option<NearCopies>,
    /// Values of at least so many bytes are stored compressed (gzip) when that makes them smaller,
    /// with `+gzip` behind their media type (RFC 8460, section 6.2); by default `None`, which
    /// compresses nothing. Only handles with this option decompress, so set it for all that share a
    /// namespace.
    pub compress_from: Option<usize>,
    /// Returns the trace context of the current span, which is passed on to the service and its
    /// origins.
    pub trace: Option<TraceHook>,
    /// Receives every event, for the application's own metrics and logs.
    pub hook: Option<EventHook>,
}

impl Default for CacheOptions {
    fn default() -> Self {
        Self {
            connections: 2,
            timeout: Duration::from_secs(1),
            bound: Duration::from_millis(50),
            refill_wait: Duration::from_secs(5),
            refill_lease: Duration::from_secs(30),
            near_copies: None,
            compress_from: None,
            trace: None,
            hook: None,
        }
    }
}

impl fmt::Debug for CacheOptions {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("CacheOptions")
            .field("connections", &self.connections)
            .field("timeout", &self.timeout)
            .field("bound", &self.bound)
            .field("refill_wait", &self.refill_wait)
            .field("refill_lease", &self.refill_lease)
            .field("near_copies", &self.near_copies)
            .field("compress_from", &self.compress_from)
            .finish_non_exhaustive()
    }
}

/// A value.
#[derive(Debug, Clone)]
pub struct Hit {
    /// The value's bytes.
    pub value: Bytes,
    /// Its source; [`Source::Hit`] for a near copy.
    pub source: Source,
    /// The time until it is stale; `None` when it is.
    pub time_left: Option<Duration>,
    /// Its details, if requested; see [`ReadOptions`](crate::ReadOptions).
    pub details: Option<Details>,
    /// Whether it was a near copy.
    pub near: bool,
    /// Whether it is due for early refresh: for callers that refill by themselves, if the
    /// namespace's policy enables it.
    pub due: bool,
    /// The revision of its entry, if requested and the value is stored.
    pub revision: Option<u64>,
}

/// What is known about a value beside its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Details {
    /// How long ago it was stored.
    pub age: Duration,
    /// Its entity tag, with quotes.
    pub entity_tag: String,
    /// Its media type.
    pub media_type: String,
    /// Its tags.
    pub tags: Vec<String>,
}

/// A page of a listing.
#[derive(Debug, Clone, Default)]
pub struct Page {
    /// The keys.
    pub keys: Vec<String>,
    /// Where the next page starts; `None` on the last one.
    pub cursor: Option<String>,
}

/// One value of [`Cache::put_many`](super::Cache::put_many).
#[derive(Debug, Clone)]
pub struct PutMany {
    /// Its key.
    pub key: String,
    /// The value.
    pub value: Bytes,
    /// How to store it.
    pub options: PutOptions,
}
