//! A route that each caller may use only so often.

use std::time::Duration;

use axum::http::StatusCode;
use axum::http::header::RETRY_AFTER;
use axum::response::{IntoResponse, Response};
use verax_client::{Cache, InvalidRate, Rate, WithoutService};

/// Searches, five in a second for each caller, in bursts of ten. Without Verax nobody is kept out:
/// the limit protects against waste. One that protects against abuse refuses instead.
///
/// # Errors
/// [`InvalidRate`] never, since the rate is valid.
pub async fn search(limits: &Cache, caller: &str) -> Result<Response, InvalidRate> {
    let rate = Rate::new(5, Duration::from_secs(1), 10)?;
    let key = format!("search/{caller}");
    let decision = limits.allows(&key, 1, rate, WithoutService::Allow).await;
    if decision.is_allowed {
        return Ok("07:10 Saltmere".into_response());
    }
    let wait = decision.retry_after.unwrap_or(Duration::from_secs(1));
    let wait = wait.as_secs_f64().ceil().to_string();
    Ok((StatusCode::TOO_MANY_REQUESTS, [(RETRY_AFTER, wait)]).into_response())
}
