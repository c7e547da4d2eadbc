//! Rate limits over HTTP.

use std::time::Duration;

use serde::Deserialize;
use verax_api::{AcquireRate, FailureKind, RateLimit};
use verax_core::store::{Rate, RateLimitOutcome};

use crate::error::ClientError;
use crate::http::entries::Namespace;

impl Namespace {
    /// Acquires from a rate limit, if enough is left.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `invalid` for an impossible rate, or an amount above the burst.
    pub async fn acquire_rate(
        &self,
        key: &str,
        amount: u64,
        rate: Rate,
    ) -> Result<RateLimitOutcome, ClientError> {
        #[derive(Deserialize)]
        struct Exhausted {
            retry_after_seconds: f64,
        }
        let request = AcquireRate {
            acquire: amount,
            rate: rate.count(),
            period_seconds: rate.period().as_secs_f64(),
            burst: Some(rate.burst()),
        };
        let acquired = self.client().post(self.of_key("rate-limits", key)?, &request).await;
        match acquired {
            Ok(RateLimit { left }) => Ok(RateLimitOutcome::Allowed { left }),
            Err(ClientError::Refused(problem))
                if problem.failure() == Some(FailureKind::RateLimited) =>
            {
                let exhausted: Option<Exhausted> =
                    serde_json::from_value(serde_json::Value::Object(problem.more)).ok();
                let seconds = exhausted.map_or(1.0, |exhausted| exhausted.retry_after_seconds);
                let retry_after =
                    Duration::try_from_secs_f64(seconds).unwrap_or(Duration::from_secs(1));
                Ok(RateLimitOutcome::Later { retry_after })
            }
            Err(error) => Err(error),
        }
    }
}
