//! What reading or refilling a key returns, and what a refill may bring.

use std::time::Duration;

use crate::error::ClientError;
use crate::options::LifetimeOptions;

/// Where a [`Cached`] value came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum CachedFrom {
    /// A near copy of this process.
    NearCopy,
    /// The cache, fresh.
    Cache,
    /// The cache, within the stale-while-revalidate time or due for early refresh, while a caller
    /// refreshes it.
    BeingRefreshed,
    /// The cache, within the stale-if-error time, since the refill failed.
    StaleOnError,
    /// This caller's own refill.
    Refill,
    /// The refill of another caller, of this process or another.
    SharedRefill,
}

/// A value with its origin and age.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct Cached<T> {
    /// The value.
    pub value: T,
    /// Where it came from.
    pub from: CachedFrom,
    /// How long ago it was stored; zero for a refill, `None` if it is not known.
    pub age: Option<Duration>,
    /// The time until it is stale; `None` if it is already, or if it is not known.
    pub time_left: Option<Duration>,
    /// Why this caller's refill was not stored. The value is right nevertheless.
    pub not_stored: Option<ClientError>,
}

impl<T> Cached<T> {
    pub(super) fn new(value: T, from: CachedFrom) -> Self {
        Self { value, from, age: None, time_left: None, not_stored: None }
    }

    /// The same with another value.
    pub fn map<U>(self, change: impl FnOnce(T) -> U) -> Cached<U> {
        let Self { value, from, age, time_left, not_stored } = self;
        Cached { value: change(value), from, age, time_left, not_stored }
    }
}

/// What a refill found: a value or the knowledge that there is none, and how to store it.
///
/// ```
/// # use std::time::Duration;
/// # use verax_client::Refilled;
/// let board = vec!["07:10 Saltmere", "07:40 Brinewick"];
/// // The tags are known only from the rows that were read.
/// let refilled = Refilled::value(board).tag("harbor-saltmere").max_age(Duration::from_secs(30));
/// let closed: Refilled<Vec<&str>> = Refilled::no_value();
/// # let _ = (refilled, closed);
/// ```
#[derive(Debug, Clone)]
pub struct Refilled<T> {
    pub(super) value: Option<T>,
    pub(super) tags: Vec<String>,
    pub(super) lifetime: LifetimeOptions,
    pub(super) is_storable: bool,
}

impl<T> Refilled<T> {
    fn new(value: Option<T>) -> Self {
        let lifetime = LifetimeOptions::default();
        Self { value, tags: Vec::new(), lifetime, is_storable: true }
    }

    /// A value.
    pub fn value(value: T) -> Self {
        Self::new(Some(value))
    }

    /// The origin has no value for the key.
    pub fn no_value() -> Self {
        Self::new(None)
    }

    /// Adds a tag to those of the call.
    #[must_use]
    pub fn tag(mut self, tag: impl Into<String>) -> Self {
        self.tags.push(tag.into());
        self
    }

    /// Overrides the call's max-age.
    #[must_use]
    pub fn max_age(mut self, max_age: Duration) -> Self {
        self.lifetime.max_age = Some(max_age);
        self
    }

    /// Returns the value to its caller without storing it.
    #[must_use]
    pub fn not_stored(mut self) -> Self {
        self.is_storable = false;
        self
    }
}

impl<T> From<Option<T>> for Refilled<T> {
    fn from(value: Option<T>) -> Self {
        Self::new(value)
    }
}
