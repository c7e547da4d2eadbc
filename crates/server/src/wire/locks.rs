//! Answering requests about locks.

use std::sync::Arc;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite};
use verax_core::Timestamp;
use verax_core::guard::lock::{FencingToken, Grant, Holder};
use verax_engine::locks::LockRequest;
use verax_wire::{Frame, Reply};

use super::answer::{fail, key, milliseconds};
use super::connection::Connection;
use super::outbox::Encoded;
use crate::failure::Failure;

fn granted(grant: &Grant, now: Timestamp) -> Reply<'static> {
    Reply::Granted { token: grant.token.number(), ends_in: milliseconds(grant.ends_at.since(now)) }
}

fn held(holder: &Holder, waiting: usize, now: Timestamp) -> Reply<'_> {
    Reply::Held {
        token: holder.token.number(),
        ends_in: milliseconds(holder.ends_at.since(now)),
        waiting: u32::try_from(waiting).unwrap_or(u32::MAX),
        owner: &holder.owner,
    }
}

/// What a request for a lock says.
pub(super) struct LockAsked<'a> {
    pub(super) name: &'a str,
    pub(super) owner: &'a str,
    pub(super) lease: u64,
    pub(super) wait: u64,
    pub(super) ends_with_connection: bool,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Connection<S> {
    /// Asks for a lock in a task of its own, since that may wait.
    pub(super) fn lock(&mut self, frame: Frame, asked: LockAsked<'_>) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?.clone();
        let (service, name) = (Arc::clone(&self.service), key(asked.name)?);
        let request = LockRequest {
            owner: self.owner(asked.owner),
            lease: Duration::from_millis(asked.lease),
            wait: Duration::from_millis(asked.wait),
            session: asked.ends_with_connection.then(|| self.session()),
            access: self.access(),
        };
        self.carry_out(frame, async move {
            let claimed = writer.acquire_lock(&name, request).await;
            let (now, mut encoded) = (service.engine().now(), Encoded::default());
            match &claimed {
                Ok(Ok(grant)) => granted(grant, now).encode(frame, &mut encoded.frames),
                Ok(Err(holder)) => {
                    let waiting = writer.lock_waiters(&name);
                    held(holder, waiting, now).encode(frame, &mut encoded.frames);
                }
                Err(error) => fail(frame, &error.clone().into(), &mut encoded.frames),
            }
            encoded
        })
    }

    pub(super) fn renew(
        &mut self,
        frame: Frame,
        name: &str,
        token: u64,
        lease: u64,
    ) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?;
        let (token, lease) = (FencingToken::from_number(token), Duration::from_millis(lease));
        let grant = writer.renew_lock(&key(name)?, token, lease)?;
        self.outbox.add(frame, &granted(&grant, self.service.engine().now()));
        Ok(())
    }

    pub(super) fn release(&mut self, frame: Frame, name: &str, token: u64) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?;
        let token = FencingToken::from_number(token);
        writer.release_lock(&key(name)?, token)?;
        self.outbox.add(frame, &Reply::done(true));
        Ok(())
    }

    pub(super) fn look_at(&mut self, frame: Frame, name: &str) -> Result<(), Failure> {
        let reader = self.opened(frame.namespace)?.reads()?;
        match reader.look_at_lock(&key(name)?) {
            Some(view) => {
                let now = self.service.engine().now();
                self.outbox.add(frame, &held(&view.holder, view.waiting, now));
            }
            None => self.outbox.add(frame, &Reply::Miss),
        }
        Ok(())
    }
}
