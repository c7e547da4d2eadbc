//! Named locks over HTTP.

use std::time::Duration;

use reqwest::Method;
use verax_api::{FailureKind, Lock, LockClaim, LockHolder, LockLease, LockRenewal, Locks};

use crate::entries::Namespace;
use crate::error::ClientError;

/// What is wanted of a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockOptions {
    /// Who asks, in words for people; the token's note when `None`.
    pub owner: Option<String>,
    /// How long the lease lasts unless it is renewed.
    pub lease: Duration,
    /// How long to wait for it; zero to be told at once. Over HTTP in whole seconds.
    pub wait: Duration,
    /// Whether the lease ends with the connection that asked for it; over the wire only.
    pub ends_with_connection: bool,
}

impl Default for LockOptions {
    /// A lease of half a minute, without waiting, that outlives its connection.
    fn default() -> Self {
        Self {
            owner: None,
            lease: Duration::from_secs(30),
            wait: Duration::ZERO,
            ends_with_connection: false,
        }
    }
}

/// What became of asking for a lock.
#[derive(Debug, Clone, PartialEq)]
pub enum Claimed<G> {
    /// It is held by the caller.
    Held(G),
    /// Somebody else holds it.
    ByOther(LockHolder),
}

impl Namespace {
    /// Asks for a lock, and waits for it as long as the options say. The lease must be renewed and
    /// released by the caller; [`hold_lock`](Self::hold_lock) does both.
    ///
    /// # Errors
    /// [`ClientError`]; a lock that somebody else holds is no error.
    pub async fn claim_lock(
        &self,
        name: &str,
        options: &LockOptions,
    ) -> Result<Claimed<LockLease>, ClientError> {
        let claim = LockClaim {
            owner: options.owner.clone(),
            lease_seconds: Some(options.lease.as_secs_f64()),
        };
        let mut request =
            self.client().request_for(options.wait, Method::POST, self.of_key("locks", name)?);
        if !options.wait.is_zero() {
            let seconds = options.wait.as_secs_f64().ceil() as u64;
            request = request.header("prefer", format!("wait={seconds}"));
        }
        match self.client().send(request.json(&claim)).await {
            Ok(response) => Ok(Claimed::Held(self.client().json(response).await?)),
            Err(ClientError::Refused(problem))
                if problem.failure() == Some(FailureKind::Locked) =>
            {
                let number =
                    |name: &str| problem.more.get(name).and_then(serde_json::Value::as_f64);
                let text = |name: &str| problem.more.get(name).and_then(serde_json::Value::as_str);
                Ok(Claimed::ByOther(LockHolder {
                    owner: text("owner").unwrap_or_default().to_owned(),
                    fencing_token: number("fencing_token").unwrap_or(0.0) as u64,
                    held_seconds: 0.0,
                    ends_in_seconds: number("ends_in_seconds").unwrap_or(0.0),
                }))
            }
            Err(error) => Err(error),
        }
    }

    /// Makes a lease last for `lease` from now on.
    ///
    /// # Errors
    /// [`ClientError`]; a lease that is over is the problem `not-held`.
    pub async fn renew_lock(
        &self,
        name: &str,
        fencing_token: u64,
        lease: Duration,
    ) -> Result<LockLease, ClientError> {
        let renewal = LockRenewal { fencing_token, lease_seconds: lease.as_secs_f64() };
        let request = self.client().request(Method::PATCH, self.of_key("locks", name)?);
        let response = self.client().send(request.json(&renewal)).await?;
        self.client().json(response).await
    }

    /// Ends a lease.
    ///
    /// # Errors
    /// [`ClientError`]; a lease that is over already is the problem `not-held`.
    pub async fn release_lock(&self, name: &str, fencing_token: u64) -> Result<(), ClientError> {
        let mut url = self.of_key("locks", name)?;
        url.query_pairs_mut().append_pair("fencing_token", &fencing_token.to_string());
        self.client().delete(url).await
    }

    /// Ends whatever hold there is; returns who had it. Needs the right to manage.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn force_release_lock(&self, name: &str) -> Result<Option<LockHolder>, ClientError> {
        let mut url = self.of_key("locks", name)?;
        url.query_pairs_mut().append_pair("force", "true");
        let response = self.client().send(self.client().request(Method::DELETE, url)).await?;
        Ok(self.client().json::<Lock>(response).await?.holder)
    }

    /// Looks at a lock without touching it.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn lock(&self, name: &str) -> Result<Lock, ClientError> {
        self.client().get(self.of_key("locks", name)?).await
    }

    /// The locks that are held, and what happened lately.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn locks(&self) -> Result<Locks, ClientError> {
        self.client().get(self.below(&["locks"])).await
    }
}
