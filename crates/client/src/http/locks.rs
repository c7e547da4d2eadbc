//! Named locks over HTTP.

use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use tokio::time::Instant;

use reqwest::Method;
use verax_api::{AcquireLock, FailureKind, Lock, LockHolder, LockLease, Locks, RenewLock};

use crate::error::ClientError;
use crate::http::entries::Namespace;
use crate::lock_guard::{Holds, LockGuard};
use crate::options::{LockOptions, LockOutcome};

struct OverHttp {
    namespace: Namespace,
    name: String,
    fencing_token: u64,
    lease: Duration,
}

impl Holds for OverHttp {
    fn renew(&self) -> BoxFuture<'_, Result<(), ClientError>> {
        Box::pin(async {
            let renewed = self.namespace.renew_lock(&self.name, self.fencing_token, self.lease);
            renewed.await.map(drop)
        })
    }

    fn release(&self) -> BoxFuture<'_, Result<(), ClientError>> {
        Box::pin(self.namespace.release_lock(&self.name, self.fencing_token))
    }
}

impl Namespace {
    /// Acquires a lock, and holds it until the guard is released or dropped.
    ///
    /// # Errors
    /// [`ClientError`]; a lock held by another caller is not an error.
    pub async fn hold_lock(
        &self,
        name: &str,
        options: &LockOptions,
    ) -> Result<LockOutcome<LockGuard>, ClientError> {
        let asked_at = Instant::now();
        Ok(match self.acquire_lock(name, options).await? {
            LockOutcome::HeldByOther(holder) => LockOutcome::HeldByOther(holder),
            LockOutcome::Acquired(held) => {
                let (namespace, lease) = (self.clone(), options.lease);
                let fencing_token = held.fencing_token;
                let holds = OverHttp { namespace, name: name.to_owned(), fencing_token, lease };
                let guard = LockGuard::new(name, fencing_token, Arc::new(holds), lease, asked_at);
                LockOutcome::Acquired(guard)
            }
        })
    }

    /// Acquires a lock, and waits for it as long as the options say. The lease must be renewed and
    /// released by the caller; [`hold_lock`](Self::hold_lock) does both.
    ///
    /// # Errors
    /// [`ClientError`]; a lock held by another caller is not an error.
    pub async fn acquire_lock(
        &self,
        name: &str,
        options: &LockOptions,
    ) -> Result<LockOutcome<LockLease>, ClientError> {
        let body = AcquireLock {
            owner: options.owner.clone(),
            lease_seconds: Some(options.lease.as_secs_f64()),
        };
        let mut request =
            self.client().request_for(options.wait, Method::POST, self.of_key("locks", name)?);
        if !options.wait.is_zero() {
            let seconds = options.wait.as_secs_f64().ceil() as u64;
            request = request.header("prefer", format!("wait={seconds}"));
        }
        match self.client().send(request.json(&body)).await {
            Ok(response) => Ok(LockOutcome::Acquired(self.client().json(response).await?)),
            Err(ClientError::Refused(problem))
                if problem.failure() == Some(FailureKind::Locked) =>
            {
                let number =
                    |name: &str| problem.more.get(name).and_then(serde_json::Value::as_f64);
                let text = |name: &str| problem.more.get(name).and_then(serde_json::Value::as_str);
                Ok(LockOutcome::HeldByOther(LockHolder {
                    owner: text("owner").unwrap_or_default().to_owned(),
                    fencing_token: number("fencing_token").unwrap_or(0.0) as u64,
                    held_seconds: number("held_seconds").unwrap_or(0.0),
                    ends_in_seconds: number("ends_in_seconds").unwrap_or(0.0),
                }))
            }
            Err(error) => Err(error),
        }
    }

    /// Renews a lease to last `lease` from now.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `not-held` if the lease has ended.
    pub async fn renew_lock(
        &self,
        name: &str,
        fencing_token: u64,
        lease: Duration,
    ) -> Result<LockLease, ClientError> {
        let renewal = RenewLock { fencing_token, lease_seconds: lease.as_secs_f64() };
        let request = self.client().request(Method::PATCH, self.of_key("locks", name)?);
        let response = self.client().send(request.json(&renewal)).await?;
        self.client().json(response).await
    }

    /// Ends a lease.
    ///
    /// # Errors
    /// [`ClientError`]; the problem `not-held` if the lease has already ended.
    pub async fn release_lock(&self, name: &str, fencing_token: u64) -> Result<(), ClientError> {
        let mut url = self.of_key("locks", name)?;
        url.query_pairs_mut().append_pair("fencing_token", &fencing_token.to_string());
        self.client().delete(url).await
    }

    /// Ends the current lease, regardless of its holder, and returns the holder. Needs the right to
    /// manage.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn force_release_lock(&self, name: &str) -> Result<Option<LockHolder>, ClientError> {
        let mut url = self.of_key("locks", name)?;
        url.query_pairs_mut().append_pair("force", "true");
        let response = self.client().send(self.client().request(Method::DELETE, url)).await?;
        Ok(self.client().json::<Lock>(response).await?.holder)
    }

    /// Reports the state of a lock.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn lock(&self, name: &str) -> Result<Lock, ClientError> {
        self.client().get(self.of_key("locks", name)?).await
    }

    /// The held locks, and recent events.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn locks(&self) -> Result<Locks, ClientError> {
        self.client().get(self.below(&["locks"])).await
    }
}
