//! Where the value of an answer came from.

/// The source of a value, as every transport tells it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Source {
    /// From the cache, fresh.
    Hit,
    /// From the cache, stale, while it is refreshed.
    Stale,
    /// From the cache, stale, because the origin failed.
    StaleOnError,
    /// From the origin, for this caller.
    Origin,
    /// From the origin, by a refill another caller began.
    Joined,
}

impl Source {
    /// Whether the value was in the cache.
    pub const fn is_cached(self) -> bool {
        matches!(self, Self::Hit | Self::Stale | Self::StaleOnError)
    }
}
