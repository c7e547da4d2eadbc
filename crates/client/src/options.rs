//! Options for storing entries and acquiring locks, for both transports.

use std::time::Duration;

use verax_api::LockHolder;

/// The condition for storing a value.
#[derive(Debug, Clone, Default)]
pub enum PutCondition {
    /// Nothing.
    #[default]
    Always,
    /// The key has no entry.
    IfAbsent,
    /// The entry has this entity tag, with quotes.
    IfMatches(String),
    /// The entry has this revision: it was not stored or removed since it was read.
    IfRevision(u64),
}

/// How to store a value. Absent lifetimes come from the namespace's policy.
#[derive(Debug, Clone, Default)]
pub struct PutOptions {
    /// Its media type; `application/octet-stream` by default.
    pub media_type: Option<String>,
    /// How long it is fresh.
    pub max_age: Option<Duration>,
    /// How long after that the previous copy may be served while it is refreshed.
    pub stale_while_revalidate: Option<Duration>,
    /// How long after max-age it may be served when the origin fails.
    pub stale_if_error: Option<Duration>,
    /// Its tags.
    pub tags: Vec<String>,
    /// The condition.
    pub condition: PutCondition,
}

/// A lifetime; absent parts come from the namespace's policy.
#[derive(Debug, Clone, Copy, Default)]
pub struct LifetimeOptions {
    /// How long it is fresh.
    pub max_age: Option<Duration>,
    /// How long after that the previous copy may be served while it is refreshed.
    pub stale_while_revalidate: Option<Duration>,
    /// How long after max-age it may be served when the origin fails.
    pub stale_if_error: Option<Duration>,
}

impl LifetimeOptions {
    /// As a `Cache-Control` field; `None` if every part is absent.
    pub(crate) fn field(self) -> Option<String> {
        let directives: Vec<String> = [
            ("max-age", self.max_age),
            ("stale-while-revalidate", self.stale_while_revalidate),
            ("stale-if-error", self.stale_if_error),
        ]
        .into_iter()
        .filter_map(|(name, time)| {
            // The field counts whole seconds; a time is never shortened, least of all to zero.
            let time = time?;
            let seconds = time.as_secs() + u64::from(time.subsec_nanos() > 0);
            Some(format!("{name}={seconds}"))
        })
        .collect();
        (!directives.is_empty()).then(|| directives.join(", "))
    }
}

/// How to acquire a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockOptions {
    /// The caller's display name; the token's note when `None`.
    pub owner: Option<String>,
    /// The lease, unless it is renewed.
    pub lease: Duration,
    /// How long to wait for it; zero for no wait. Over HTTP in whole seconds.
    pub wait: Duration,
    /// Whether the lease ends with its connection; over the wire only.
    pub ends_with_connection: bool,
}

impl Default for LockOptions {
    /// A lease of 30 seconds, without waiting, that outlives its connection.
    fn default() -> Self {
        Self {
            owner: None,
            lease: Duration::from_secs(30),
            wait: Duration::ZERO,
            ends_with_connection: false,
        }
    }
}

/// The outcome of acquiring a lock.
#[derive(Debug, Clone, PartialEq)]
pub enum LockOutcome<G> {
    /// The lock was acquired.
    Acquired(G),
    /// Another caller holds it.
    HeldByOther(LockHolder),
}
