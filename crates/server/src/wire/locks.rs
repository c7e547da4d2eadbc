//! Answering requests about locks.

use std::sync::Arc;
use std::time::Duration;

use verax_core::Timestamp;
use verax_core::guard::lock::{FencingToken, Grant, Holder};
use verax_engine::locks::{Acquired, LockRequest};
use verax_wire::{Frame, Reply};

use super::outbox::Encoded;
use super::session::{Session, fail};
use super::values::{key, milliseconds};
use crate::failure::Failure;

fn granted(grant: &Grant, now: Timestamp) -> Reply<'static> {
    Reply::Granted {
        fencing_token: grant.token.number(),
        ends_in: milliseconds(grant.ends_at.since(now)),
    }
}

fn held(holder: &Holder, queued: usize, now: Timestamp) -> Reply<'_> {
    Reply::Held {
        fencing_token: holder.token.number(),
        ends_in: milliseconds(holder.ends_at.since(now)),
        held_for: milliseconds(now.since(holder.since)),
        queued: u32::try_from(queued).unwrap_or(u32::MAX),
        owner: &holder.owner,
    }
}

/// Arguments for acquiring a lock.
pub(super) struct LockArguments<'a> {
    pub(super) name: &'a str,
    pub(super) owner: &'a str,
    pub(super) lease: u64,
    pub(super) wait: u64,
    pub(super) ends_with_connection: bool,
}

impl Session {
    /// Acquires a lock in a task of its own, since that may wait.
    pub(super) fn acquire_lock(
        &mut self,
        frame: Frame,
        arguments: LockArguments<'_>,
    ) -> Result<(), Failure> {
        let locker = self.opened(frame.namespace)?.locks()?.clone();
        let (service, name) = (Arc::clone(&self.service), key(arguments.name)?);
        let request = LockRequest {
            owner: self.owner(arguments.owner),
            lease: Duration::from_millis(arguments.lease),
            wait: Duration::from_millis(arguments.wait),
            session: arguments.ends_with_connection.then(|| self.session()),
            access: self.access(),
        };
        self.carry_out(frame, async move {
            let acquired = locker.acquire_lock(&name, request).await;
            let (now, mut encoded) = (service.engine().now(), Encoded::default());
            match &acquired {
                Ok(Acquired::Granted(grant)) => {
                    granted(grant, now).encode(frame, &mut encoded.frames)
                }
                Ok(Acquired::HeldByOther(holder)) => {
                    let waiting = locker.queued_for_lock(&name);
                    held(holder, waiting, now).encode(frame, &mut encoded.frames);
                }
                Err(error) => fail(frame, &error.clone().into(), &mut encoded.frames),
            }
            encoded
        })
    }

    pub(super) fn renew_lock(
        &mut self,
        frame: Frame,
        name: &str,
        token: u64,
        lease: u64,
    ) -> Result<(), Failure> {
        let locker = self.opened(frame.namespace)?.locks()?;
        let (token, lease) = (FencingToken::from_number(token), Duration::from_millis(lease));
        let grant = locker.renew_lock(&key(name)?, token, lease)?;
        self.outbox.add(frame, &granted(&grant, self.service.engine().now()));
        Ok(())
    }

    pub(super) fn release_lock(
        &mut self,
        frame: Frame,
        name: &str,
        token: u64,
    ) -> Result<(), Failure> {
        let locker = self.opened(frame.namespace)?.locks()?;
        let token = FencingToken::from_number(token);
        locker.release_lock(&key(name)?, token)?;
        self.outbox.add(frame, &Reply::done(true));
        Ok(())
    }

    pub(super) fn peek_lock(&mut self, frame: Frame, name: &str) -> Result<(), Failure> {
        let reader = self.opened(frame.namespace)?.reads()?;
        match reader.peek_lock(&key(name)?) {
            Some(view) => {
                let now = self.service.engine().now();
                self.outbox.add(frame, &held(&view.holder, view.queued, now));
            }
            None => self.outbox.add(frame, &Reply::Miss),
        }
        Ok(())
    }
}
