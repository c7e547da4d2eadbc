//! Moments in the API's format.

use verax_core::Timestamp;

/// A moment in the API's format.
pub fn moment(at: Timestamp) -> jiff::Timestamp {
    let millis = i64::try_from(at.as_millis()).unwrap_or(i64::MAX);
    jiff::Timestamp::from_millisecond(millis).unwrap_or(jiff::Timestamp::MAX)
}
