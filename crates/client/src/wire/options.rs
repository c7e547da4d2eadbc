//! What a handle is asked to be like, what it tells, and what it finds.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;

use super::near::NearCopies;
use crate::options::PutOptions;
use verax_core::source::Source;

/// Something that happened, for an application's own metrics.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CacheEvent {
    /// A look-up was answered by a near copy.
    NearHit,
    /// A look-up was answered by Verax.
    Hit,
    /// A look-up found nothing.
    Miss,
    /// A look-up got no answer in time or failed.
    Failure,
    /// A look-up was not tried, since Verax did not answer several times in a row.
    Skipped,
    /// A value was read from where it comes from, by `get_or_refill`.
    Refill,
}

pub(super) type Hook = Arc<dyn Fn(CacheEvent, Duration) + Send + Sync>;

/// How a [`Cache`](super::Cache) behaves.
#[derive(Clone)]
pub struct CacheOptions {
    /// Connections, each shared by many calls.
    pub connections: usize,
    /// The longest time for a call.
    pub timeout: Duration,
    /// The longest that [`Cache::get_or_refill`](super::Cache::get_or_refill) waits for
    /// Verax before it refills by itself.
    pub bound: Duration,
    /// How long [`Cache::get_or_refill`](super::Cache::get_or_refill) waits while another caller
    /// refills the key, before it refills by itself and stores nothing.
    pub refill_wait: Duration,
    /// The longest that a refill may take until another caller gets the right to it.
    pub refill_lease: Duration,
    /// Whether and how values are kept in this process.
    pub near_copies: Option<NearCopies>,
    /// Values of at least so many bytes are stored compressed (gzip) when that makes them smaller,
    /// with `+gzip` behind their media type (RFC 8460, section 6.2); `None` compresses nothing.
    /// What was stored so is unpacked by every handle that has this set, so set it for all that
    /// share a namespace.
    pub compress_from: Option<usize>,
    /// Told of everything that happens, and how long it took.
    pub hook: Option<Hook>,
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

/// A value that was found.
#[derive(Debug, Clone)]
pub struct Hit {
    /// The value's bytes.
    pub value: Bytes,
    /// Where it came from; [`Source::Hit`] for a near copy.
    pub source: Source,
    /// The time until it is stale; `None` when it is.
    pub time_left: Option<Duration>,
    /// Whether it was a near copy.
    pub near: bool,
    /// Whether it is time to refresh it early: for callers that refill by themselves, in a
    /// namespace whose policy has it.
    pub due: bool,
    /// The revision of its entry, where it was asked for and the value is stored.
    pub revision: Option<u64>,
}

/// What a look-up came to.
#[derive(Debug, Clone)]
pub(super) enum LookupOutcome {
    /// A value.
    Hit(Hit),
    /// Nothing is known.
    Miss,
    /// It is known that there is no value.
    NoValue,
}

impl LookupOutcome {
    pub(super) fn hit(self) -> Option<Hit> {
        match self {
            Self::Hit(hit) => Some(hit),
            Self::Miss | Self::NoValue => None,
        }
    }
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
