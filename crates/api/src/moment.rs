//! Moments as the API shows them.

use verax_core::Timestamp;

/// A moment as the API shows it.
pub fn moment(at: Timestamp) -> jiff::Timestamp {
    let millis = i64::try_from(at.as_millis()).unwrap_or(i64::MAX);
    jiff::Timestamp::from_millisecond(millis).unwrap_or(jiff::Timestamp::MAX)
}
