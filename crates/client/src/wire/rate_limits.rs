//! Rate limits.

use std::time::Duration;

use verax_core::store::{Rate, RateLimitOutcome};
use verax_wire::{Reply, Request};

use super::cache::Cache;
use super::frames::{checked, milliseconds, unexpected};
use crate::error::ClientError;

impl Cache {
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
        let request = Request::AcquireRate {
            key: checked(key)?,
            amount,
            count: rate.count(),
            period: milliseconds(rate.period()),
            burst: rate.burst(),
        };
        let raw = self.request(request).await?;
        match raw.reply()? {
            Reply::RateAcquired { left } => Ok(RateLimitOutcome::Allowed { left }),
            Reply::Later { retry_after } => {
                Ok(RateLimitOutcome::Later { retry_after: Duration::from_millis(retry_after) })
            }
            _ => Err(unexpected()),
        }
    }
}
