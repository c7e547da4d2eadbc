//! Named locks over the wire.

use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::future::BoxFuture;
use verax_api::{LockHolder, LockLease};
use verax_wire::{Reply, Request};

use super::cache::Cache;
use super::frames::{checked, milliseconds, unexpected, was_there};
use super::link::{Link, RawReply, Undo};
use crate::error::ClientError;
use crate::lock_guard::{Holds, LockGuard};
use crate::options::{LockOptions, LockOutcome};

fn seconds(milliseconds: u64) -> f64 {
    Duration::from_millis(milliseconds).as_secs_f64()
}

struct OverWire {
    cache: Cache,
    name: String,
    token: u64,
    lease: Duration,
    /// The connection the lease ends with, which must be used while the lease lasts.
    link: Option<Arc<Link>>,
}

impl OverWire {
    async fn ask(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        match &self.link {
            Some(link) => self.cache.ask_on(link, request).await,
            None => self.cache.ask(request).await,
        }
    }
}

impl Holds for OverWire {
    fn renew(&self) -> BoxFuture<'_, Result<(), ClientError>> {
        Box::pin(async {
            let (name, lease) = (&*self.name, milliseconds(self.lease));
            let raw =
                self.ask(Request::RenewLock { name, fencing_token: self.token, lease }).await?;
            raw.reply().map(drop)
        })
    }

    fn release(&self) -> BoxFuture<'_, Result<(), ClientError>> {
        Box::pin(async {
            let raw = self
                .ask(Request::ReleaseLock { name: &self.name, fencing_token: self.token })
                .await?;
            was_there(&raw).map(drop)
        })
    }
}

impl Cache {
    async fn request(
        &self,
        name: &str,
        options: &LockOptions,
    ) -> Result<(LockOutcome<LockLease>, Arc<Link>), ClientError> {
        let name = checked(name)?;
        let call = async {
            let link = self.0.pool.link().await?;
            let lock = Request::AcquireLock {
                name,
                owner: options.owner.as_deref().unwrap_or(""),
                lease: milliseconds(options.lease),
                wait: milliseconds(options.wait),
                ends_with_connection: options.ends_with_connection,
            };
            let number = link.open(&self.0.tenant, &self.0.namespace).await?;
            let undo = Some(Undo::Lock(name.to_owned()));
            Ok((link.call_or_undo(number, lock, undo).await?, link))
        };
        let waits = !options.wait.is_zero();
        let (raw, link) = self.within(options.wait + self.0.options.timeout, waits, call).await?;
        let claimed = match raw.reply()? {
            Reply::Granted { fencing_token, ends_in } => LockOutcome::Acquired(LockLease {
                name: name.to_owned(),
                fencing_token,
                ends_in_seconds: seconds(ends_in),
            }),
            Reply::Held { fencing_token, ends_in, owner, .. } => {
                LockOutcome::HeldByOther(LockHolder {
                    owner: owner.to_owned(),
                    fencing_token,
                    held_seconds: 0.0,
                    ends_in_seconds: seconds(ends_in),
                })
            }
            _ => return Err(unexpected()),
        };
        Ok((claimed, link))
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
        let asked_at = Instant::now();
        let (claimed, link) = self.request(name, options).await?;
        Ok(match claimed {
            LockOutcome::HeldByOther(holder) => LockOutcome::HeldByOther(holder),
            LockOutcome::Acquired(held) => {
                let holds = OverWire {
                    cache: self.clone(),
                    name: name.to_owned(),
                    token: held.fencing_token,
                    lease: options.lease,
                    link: options.ends_with_connection.then_some(link),
                };
                let holds: Arc<dyn Holds> = Arc::new(holds);
                let (token, lease) = (held.fencing_token, options.lease);
                LockOutcome::Acquired(LockGuard::new(name, token, holds, lease, asked_at))
            }
        })
    }

    /// The holder of a lock; `None` when it is free.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn peek_lock(&self, name: &str) -> Result<Option<LockHolder>, ClientError> {
        let raw = self.ask(Request::PeekLock { name: checked(name)? }).await?;
        match raw.reply()? {
            Reply::Miss => Ok(None),
            Reply::Held { fencing_token, ends_in, owner, .. } => Ok(Some(LockHolder {
                owner: owner.to_owned(),
                fencing_token,
                held_seconds: 0.0,
                ends_in_seconds: seconds(ends_in),
            })),
            _ => Err(unexpected()),
        }
    }
}
