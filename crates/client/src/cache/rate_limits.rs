//! Rate limits.

use std::time::Duration;

use tokio::time::Instant;
use verax_core::store::{Rate, RateLimitOutcome};
use verax_wire::{Reply, Request};

use super::events::CacheEventKind;
use super::frames::{checked, milliseconds, unexpected};
use super::handle::Cache;
use crate::error::ClientError;

/// What to decide when the service does not answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WithoutService {
    /// Let the caller pass: for limits that protect against waste.
    Allow,
    /// Refuse the caller: for limits that protect against abuse.
    Refuse,
}

/// Whether a caller may pass a rate limit.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct RateDecision {
    /// Whether it may.
    pub is_allowed: bool,
    /// The time until it may, if the rate limit is exhausted.
    pub retry_after: Option<Duration>,
    /// Why the service did not decide.
    pub undecided: Option<ClientError>,
}

impl Cache {
    /// Decides whether a caller may pass a rate limit, within the bound of the options, for a route
    /// that must answer in any case: without the service, `without_service` decides.
    ///
    /// ```no_run
    /// # use std::time::Duration;
    /// # use verax_client::{Cache, InvalidRate, Rate, WithoutService};
    /// # async fn example(limits: &Cache) -> Result<(), InvalidRate> {
    /// let rate = Rate::new(5, Duration::from_secs(1), 10)?;
    /// let decision = limits.allows("search/saltmere", 1, rate, WithoutService::Allow).await;
    /// if !decision.is_allowed {
    ///     // Answer 429 with decision.retry_after.
    /// }
    /// # Ok(())
    /// # }
    /// ```
    pub async fn allows(
        &self,
        key: &str,
        amount: u64,
        rate: Rate,
        without_service: WithoutService,
    ) -> RateDecision {
        match self.acquire_rate_within(self.0.options.bound, key, amount, rate).await {
            Ok(RateLimitOutcome::Allowed { .. }) => {
                RateDecision { is_allowed: true, retry_after: None, undecided: None }
            }
            Ok(RateLimitOutcome::Later { retry_after }) => {
                let retry_after = Some(retry_after);
                RateDecision { is_allowed: false, retry_after, undecided: None }
            }
            Err(error) => {
                let is_allowed = without_service == WithoutService::Allow;
                RateDecision { is_allowed, retry_after: None, undecided: Some(error) }
            }
        }
    }

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
        self.acquire_rate_within(self.0.options.timeout, key, amount, rate).await
    }

    async fn acquire_rate_within(
        &self,
        bound: Duration,
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
        let started = Instant::now();
        let raw = self.request_within(bound, request).await;
        let outcome = raw.and_then(|raw| match raw.reply()? {
            Reply::RateAcquired { left } => Ok(RateLimitOutcome::Allowed { left }),
            Reply::Later { retry_after } => {
                Ok(RateLimitOutcome::Later { retry_after: Duration::from_millis(retry_after) })
            }
            _ => Err(unexpected()),
        });
        self.note_with(CacheEventKind::RateLimit, started, 0, outcome.as_ref().err());
        outcome
    }
}
