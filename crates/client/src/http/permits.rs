//! Refill permits over HTTP.

use std::time::Duration;

use bytes::Bytes;
use reqwest::Method;
use verax_api::{AcquirePermit, FailureKind, PermitGrant, Permits};

use crate::error::ClientError;
use crate::http::answer::ReadResult;
use crate::http::entries::{Namespace, with_options};
use crate::options::{PutCondition, PutOptions};

/// How to acquire the permit of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PermitOptions {
    /// The caller's display name; the token's note when `None`.
    pub owner: Option<String>,
    /// How long the permit lasts if the caller gets it.
    pub lease: Duration,
    /// How long to wait while another caller refills, in whole seconds; zero to be told at once.
    pub wait: Duration,
    /// Whether to accept a stale copy while another caller refills.
    pub stale: bool,
    /// Whether the permit is wanted although a fresh copy may be there, or the word that there is
    /// no value.
    pub refresh: bool,
}

impl Default for PermitOptions {
    /// A lease of ten seconds, without waiting.
    fn default() -> Self {
        let (lease, wait) = (Duration::from_secs(10), Duration::ZERO);
        Self { owner: None, lease, wait, stale: false, refresh: false }
    }
}

/// What asking for a key came to.
#[derive(Debug, Clone)]
pub enum PermitOutcome {
    /// The value: a copy that was there, or the one that another caller brought.
    Value(Box<ReadResult>),
    /// It is known that there is no value.
    NoValue,
    /// It is for the caller to refill: read the origin, and store the value with this permit.
    Permit(PermitGrant),
    /// Another caller refills for at most this long yet: come back then.
    Later(Duration),
}

impl Namespace {
    /// Asks for a key whose value the caller can produce itself: for the value if it is there, else
    /// for the right to refill it. A permit must be used up by
    /// [`put_with_permit`](Self::put_with_permit) or given back;
    /// [`Cache::get_or_refill`](crate::Cache::get_or_refill) does all of it over the wire.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn ask(
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
            Ok(response) => Ok(PermitOutcome::Value(Box::new(self.value_of(response).await?))),
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

    /// Stores the value that a permit was given for; whoever waits for it gets it at once. The
    /// condition of the options is left out: a permit is one by itself.
    ///
    /// # Errors
    /// [`ClientError`]; a permit that is over is the problem `permit-voided` or `permit-expired`.
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

    /// Gives a permit back without a value. With `fail_all` the refill has failed for all who wait
    /// for it; without, the next of them may try.
    ///
    /// # Errors
    /// [`ClientError`]; a permit that is over is the problem `permit-voided` or `permit-expired`.
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
