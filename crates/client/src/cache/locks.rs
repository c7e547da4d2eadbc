//! Named locks over the wire.

use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use tokio::time::Instant;
use verax_api::{LockHolder, LockLease};
use verax_wire::{Reply, Request};

use super::events::CacheEventKind;
use super::frames::{checked, milliseconds, unexpected, was_there};
use super::handle::Cache;
use super::transport::Connection;
use crate::error::ClientError;
use crate::lock_guard::{Holds, LockGuard};
use crate::options::{LockOptions, LockOutcome};
use crate::wire::link::{RawReply, Undo};

fn seconds(milliseconds: u64) -> f64 {
    Duration::from_millis(milliseconds).as_secs_f64()
}

struct Lease {
    cache: Cache,
    name: String,
    token: u64,
    lease: Duration,
    /// The connection the lease ends with, which must be used while the lease lasts.
    connection: Option<Connection>,
}

impl Lease {
    async fn request(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        match &self.connection {
            Some(connection) => self.cache.call_on(connection, &request, None).await,
            None => self.cache.request(request).await,
        }
    }
}

impl Holds for Lease {
    fn renew(&self) -> BoxFuture<'_, Result<(), ClientError>> {
        Box::pin(async {
            let (name, lease) = (&*self.name, milliseconds(self.lease));
            let raw =
                self.request(Request::RenewLock { name, fencing_token: self.token, lease }).await?;
            raw.reply().map(drop)
        })
    }

    fn release(&self) -> BoxFuture<'_, Result<(), ClientError>> {
        Box::pin(async {
            let raw = self
                .request(Request::ReleaseLock { name: &self.name, fencing_token: self.token })
                .await?;
            was_there(&raw).map(drop)
        })
    }
}

impl Cache {
    async fn acquire_with_connection(
        &self,
        name: &str,
        options: &LockOptions,
    ) -> Result<(LockOutcome<LockLease>, Connection), ClientError> {
        let name = checked(name)?;
        let call = pin!(async {
            let connection = self.0.transport.connection().await?;
            let lock = Request::AcquireLock {
                name,
                owner: options.owner.as_deref().unwrap_or(""),
                lease: milliseconds(options.lease),
                wait: milliseconds(options.wait),
                ends_with_connection: options.ends_with_connection,
            };
            let undo = Some(Undo::Lock(name.to_owned()));
            Ok((self.call_on(&connection, &lock, undo).await?, connection))
        });
        let waits = !options.wait.is_zero();
        let (raw, connection) =
            self.within(Instant::now(), options.wait + self.0.options.timeout, waits, call).await?;
        let acquired = match raw.reply()? {
            Reply::Granted { fencing_token, ends_in } => LockOutcome::Acquired(LockLease {
                name: name.to_owned(),
                fencing_token,
                ends_in_seconds: seconds(ends_in),
            }),
            Reply::Held { fencing_token, ends_in, held_for, owner, .. } => {
                LockOutcome::HeldByOther(LockHolder {
                    owner: owner.to_owned(),
                    fencing_token,
                    held_seconds: seconds(held_for),
                    ends_in_seconds: seconds(ends_in),
                })
            }
            _ => return Err(unexpected()),
        };
        Ok((acquired, connection))
    }

    /// Acquires a lock, and holds it until the guard is released or dropped.
    ///
    /// # Errors
    /// [`ClientError`]; a lock held by another caller is not an error.
    pub async fn hold_lock(
        &self,
        name: &str,
        options: &LockOptions,
    ) -> Result<LockOutcome<LockGuard>, ClientError> {
        let requested_at = Instant::now();
        let outcome = self.acquire_with_connection(name, options).await;
        self.note_with(CacheEventKind::Lock, requested_at, 0, outcome.as_ref().err());
        let (acquired, connection) = outcome?;
        Ok(match acquired {
            LockOutcome::HeldByOther(holder) => LockOutcome::HeldByOther(holder),
            LockOutcome::Acquired(held) => {
                let holds = Lease {
                    cache: self.clone(),
                    name: name.to_owned(),
                    token: held.fencing_token,
                    lease: options.lease,
                    connection: options.ends_with_connection.then_some(connection),
                };
                let holds: Arc<dyn Holds> = Arc::new(holds);
                let (token, lease) = (held.fencing_token, options.lease);
                LockOutcome::Acquired(LockGuard::new(name, token, holds, lease, requested_at))
            }
        })
    }

    /// The holder of a lock; `None` when it is free.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn peek_lock(&self, name: &str) -> Result<Option<LockHolder>, ClientError> {
        let raw = self.request(Request::PeekLock { name: checked(name)? }).await?;
        match raw.reply()? {
            Reply::Miss => Ok(None),
            Reply::Held { fencing_token, ends_in, held_for, owner, .. } => Ok(Some(LockHolder {
                owner: owner.to_owned(),
                fencing_token,
                held_seconds: seconds(held_for),
                ends_in_seconds: seconds(ends_in),
            })),
            _ => Err(unexpected()),
        }
    }
}
