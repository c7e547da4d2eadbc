//! Refill permits over HTTP.

use std::time::Duration;

use bytes::Bytes;
use reqwest::Method;
use verax_api::{AcquirePermit, AwaitRefill, FailureKind, PermitGrant, Permits};

use crate::error::ClientError;
use crate::http::answer::ReadResult;
use crate::http::entries::{Namespace, with_options};
use crate::options::{PutCondition, PutOptions};

/// How to acquire the permit of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PermitOptions {
    /// The caller's display name; the token's note when `None`.
    pub owner: Option<String>,
    /// The lease of the permit, if one is granted.
    pub lease: Duration,
    /// How long to wait while another caller refills, in whole seconds; zero for no wait.
    pub wait: Duration,
    /// Whether to accept a stale copy while another caller refills.
    pub stale: bool,
    /// Whether to refill even if a fresh copy or a negative entry exists.
    pub refresh: bool,
}

impl Default for PermitOptions {
    /// A lease of ten seconds, without waiting.
    fn default() -> Self {
        let (lease, wait) = (Duration::from_secs(10), Duration::ZERO);
        Self { owner: None, lease, wait, stale: false, refresh: false }
    }
}

/// The outcome of requesting a key.
#[derive(Debug, Clone)]
pub enum PermitOutcome {
    /// The value: a copy in the cache, or the one another caller stored.
    Value(ReadResult),
    /// A negative entry.
    NoValue,
    /// The caller may refill: read the origin, and store the value with this permit.
    Permit(PermitGrant),
    /// Another caller holds the permit for at most this much longer: retry then.
    Later(Duration),
}

impl Namespace {
    /// Acquires a key whose value the caller can produce itself: returns the value if present,
    /// otherwise a permit to refill it. The caller must use the permit in
    /// [`put_with_permit`](Self::put_with_permit) or release it;
    /// [`Cache::get_or_refill`](crate::Cache::get_or_refill) does all of this over the wire.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn acquire_permit(
        &self,
        key: &str,
        options: &PermitOptions,
    ) -> Result<PermitOutcome, ClientError> {
        let body = AcquirePermit {
            owner: options.owner.clone(),
            lease_seconds: Some(options.lease.as_secs_f64()),
            stale: options.stale,
            refresh: options.refresh,
        };
        let url = self.of_key("permits", key)?;
        let mut request = self.client().request_for(options.wait, Method::POST, url);
        if !options.wait.is_zero() {
            let seconds = options.wait.as_secs_f64().ceil() as u64;
            request = request.header("prefer", format!("wait={seconds}"));
        }
        match self.client().send(request.json(&body)).await {
            Ok(response) if response.status().as_u16() == 201 => {
                Ok(PermitOutcome::Permit(self.client().json(response).await?))
            }
            Ok(response) => Ok(PermitOutcome::Value(self.value_of(response).await?)),
            Err(ClientError::Refused(problem)) => match problem.failure() {
                Some(FailureKind::NoValue) => Ok(PermitOutcome::NoValue),
                Some(FailureKind::BeingRefilled) => {
                    let seconds = problem.more.get("retry_after_seconds");
                    let seconds = seconds.and_then(serde_json::Value::as_f64).unwrap_or(1.0);
                    Ok(PermitOutcome::Later(
                        Duration::try_from_secs_f64(seconds).unwrap_or_default(),
                    ))
                }
                _ => Err(ClientError::Refused(problem)),
            },
            Err(error) => Err(error),
        }
    }

    /// Waits for a key that a warm run wants to be refilled, in a namespace without an origin;
    /// `None` if none was wanted in time. The caller must use the permit in
    /// [`put_with_permit`](Self::put_with_permit) or release it;
    /// [`Cache::serve_refills`](crate::Cache::serve_refills) does all of this. Of the options, only
    /// owner, lease and wait count.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn await_refill(
        &self,
        options: &PermitOptions,
    ) -> Result<Option<PermitGrant>, ClientError> {
        let lease_seconds = Some(options.lease.as_secs_f64());
        let body = AwaitRefill { owner: options.owner.clone(), lease_seconds };
        let url = self.below(&["wanted-refills"]);
        let mut request = self.client().request_for(options.wait, Method::POST, url);
        if !options.wait.is_zero() {
            let seconds = options.wait.as_secs_f64().ceil() as u64;
            request = request.header("prefer", format!("wait={seconds}"));
        }
        let response = self.client().send(request.json(&body)).await?;
        match response.status().as_u16() {
            204 => Ok(None),
            _ => Ok(Some(self.client().json(response).await?)),
        }
    }

    /// Stores the value of a permit; waiting callers receive it immediately. The options' condition
    /// is ignored: the permit is the condition.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `permit-voided` or `permit-expired` if the permit has ended.
    pub async fn put_with_permit(
        &self,
        key: &str,
        value: impl Into<Bytes>,
        permit: u64,
        options: PutOptions,
    ) -> Result<(), ClientError> {
        let request = self.client().request(Method::PUT, self.of_key("entries", key)?);
        let request = request.header("verax-permit", permit).body(value.into());
        let options = PutOptions { condition: PutCondition::Always, ..options };
        self.client().send(with_options(request, options)).await.map(drop)
    }

    /// Releases a permit without a value. With `fail_all` the refill fails for every waiting
    /// caller; otherwise the next one may try.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `permit-voided` or `permit-expired` if the permit has ended.
    pub async fn release_permit(
        &self,
        key: &str,
        permit: u64,
        fail_all: bool,
    ) -> Result<(), ClientError> {
        let mut url = self.of_key("permits", key)?;
        let fail = if fail_all { "all" } else { "next" };
        url.query_pairs_mut().append_pair("permit", &permit.to_string()).append_pair("fail", fail);
        self.client().delete(url).await
    }

    /// The live permits, and the latest refills.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn permits(&self) -> Result<Permits, ClientError> {
        self.client().get(self.below(&["permits"])).await
    }
}
