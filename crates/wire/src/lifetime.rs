//! Lifetimes in frames.

use std::time::Duration;

use verax_core::lifetime::{CacheControl, LifetimeTooLong, within_limit};

use crate::bytes::Reader;
use crate::error::WireError;

/// The parts of a lifetime, in milliseconds. Absent ones come from the namespace's policy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lifetime {
    /// How long the entry is fresh.
    pub max_age: u64,
    /// How long after that the previous copy may be served while one caller refreshes it.
    pub stale_while_revalidate: u64,
    /// How long after `max_age` the previous copy may be served when the origin fails.
    pub stale_if_error: u64,
}

impl Lifetime {
    /// The encoding of an absent part.
    pub const ABSENT: u64 = u64::MAX;

    /// The parts a caller set; `None` if there are none.
    pub fn of(given: &CacheControl) -> Option<Self> {
        let part = |time: Option<Duration>| match time {
            Some(time) => u64::try_from(time.as_millis()).unwrap_or(u64::MAX - 1),
            None => Self::ABSENT,
        };
        let CacheControl { max_age, stale_while_revalidate, stale_if_error, .. } = *given;
        let given = max_age.or(stale_while_revalidate).or(stale_if_error).is_some();
        given.then(|| Self {
            max_age: part(max_age),
            stale_while_revalidate: part(stale_while_revalidate),
            stale_if_error: part(stale_if_error),
        })
    }

    /// Converts them to the core's form.
    ///
    /// # Errors
    /// [`LifetimeTooLong`] for a part that is too long.
    pub fn parts(lifetime: Option<Self>) -> Result<CacheControl, LifetimeTooLong> {
        let Some(given) = lifetime else { return Ok(CacheControl::default()) };
        let part = |milliseconds| match milliseconds {
            Self::ABSENT => Ok(None),
            _ => within_limit(Duration::from_millis(milliseconds)).map(Some),
        };
        Ok(CacheControl {
            max_age: part(given.max_age)?,
            stale_while_revalidate: part(given.stale_while_revalidate)?,
            stale_if_error: part(given.stale_if_error)?,
            ..CacheControl::default()
        })
    }

    pub(crate) fn read(reader: &mut Reader<'_>) -> Result<Self, WireError> {
        Ok(Self {
            max_age: reader.u64("max-age")?,
            stale_while_revalidate: reader.u64("stale-while-revalidate")?,
            stale_if_error: reader.u64("stale-if-error")?,
        })
    }

    pub(crate) fn write(self, out: &mut Vec<u8>) {
        for part in [self.max_age, self.stale_while_revalidate, self.stale_if_error] {
            out.extend_from_slice(&part.to_le_bytes());
        }
    }
}
