//! Rate limits over HTTP.

use std::time::Duration;

use serde::Deserialize;
use verax_api::{AcquireRequest, FailureKind, RateLimit};

use crate::entries::Namespace;
use crate::error::ClientError;

/// How fast a rate limit comes back, and how much it holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rate {
    /// How much comes back in each period.
    pub count: u64,
    /// The period.
    pub period: Duration,
    /// How much may be acquired at once.
    pub burst: u64,
}

/// What became of an attempt to acquire from a rate limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RateLimitOutcome {
    /// It was acquired; this much may still be acquired at once.
    Allowed {
        /// How much is left.
        left: u64,
    },
    /// Nothing was acquired.
    Later {
        /// The time after which it is worth asking again.
        retry_after: Duration,
    },
}

impl Namespace {
    /// Acquires from a rate limit, if there is enough.
    ///
    /// # Errors
    /// [`ClientError`]; a rate that cannot be, or more than the burst, is the problem `invalid`.
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
        let request = AcquireRequest {
            acquire: amount,
            rate: rate.count,
            period_seconds: rate.period.as_secs_f64(),
            burst: Some(rate.burst),
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
