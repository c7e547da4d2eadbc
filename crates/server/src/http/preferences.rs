//! The preference `Prefer: wait=SECONDS` (RFC 7240) in requests and responses.

use std::time::Duration;

use axum::http::header::RETRY_AFTER;
use axum::http::{HeaderMap, HeaderName, HeaderValue};
use axum::response::Response;

use crate::failure::{Failure, Result};

const PREFERENCE_APPLIED: HeaderName = HeaderName::from_static("preference-applied");

/// How long a caller is ready to wait: `Prefer: wait=SECONDS` (RFC 7240, section 4.3), at most
/// `max`. Malformed preferences are ignored (section 2).
pub(crate) fn preferred_wait(headers: &HeaderMap, max: Duration) -> Duration {
    let preferences = headers.get_all("prefer");
    let preferences = preferences.iter().filter_map(|field| field.to_str().ok());
    for preference in preferences.flat_map(|field| field.split([',', ';'])) {
        let Some((name, value)) = preference.split_once('=') else { continue };
        if name.trim().eq_ignore_ascii_case("wait") {
            let seconds = value.trim().trim_matches('"').parse::<u32>();
            let wait = seconds.map(|seconds| Duration::from_secs(seconds.into()));
            return wait.unwrap_or_default().min(max);
        }
    }
    Duration::ZERO
}

/// Confirms that a wait preference was applied.
pub(crate) fn applied(response: &mut Response, wait: Duration) {
    if !wait.is_zero()
        && let Ok(field) = HeaderValue::try_from(format!("wait={}", wait.as_secs()))
    {
        response.headers_mut().insert(PREFERENCE_APPLIED, field);
    }
}

pub(crate) fn seconds_of(member: &'static str, seconds: f64) -> Result<Duration> {
    let time = verax_api::duration_of(member, seconds);
    time.map_err(Failure::invalid)
}

/// Whole seconds, rounded up, for Retry-After.
pub(crate) fn come_back_in(response: &mut Response, time: Duration) {
    let seconds = time.as_secs_f64().ceil().max(1.0) as u64;
    response.headers_mut().insert(RETRY_AFTER, HeaderValue::from(seconds));
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use verax_core::guard::lock::MAX_WAIT;

    use super::*;

    #[rstest]
    #[case("wait=10", 10)]
    #[case("respond-async, WAIT=3", 3)]
    #[case("wait=\"5\"; foo=bar", 5)]
    #[case("respond-async", 0)]
    #[case("wait=soon", 0)]
    #[case("wait=-1", 0)]
    #[case("wait=3600", 3_600)]
    #[case("wait=3601", 3_600)]
    fn waits_are_read_as_the_rfc_writes_them(#[case] field: &str, #[case] expected: u64) {
        let mut headers = HeaderMap::new();
        headers.insert("prefer", HeaderValue::from_str(field).unwrap());
        assert_eq!(preferred_wait(&headers, MAX_WAIT), Duration::from_secs(expected));
    }
}
