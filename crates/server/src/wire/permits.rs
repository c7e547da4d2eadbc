//! Answering requests about refill permits.

use std::sync::Arc;
use std::time::Duration;

use verax_core::{EntryRevision, PermitNumber};
use verax_engine::cache::{AwaitRefill, PermitOutcome, PermitRequest};
use verax_wire::{Frame, PermitFlags, Put, Reply};

use super::outbox::Encoded;
use super::session::{Session, fail};
use super::values::{ValueFields, key, milliseconds, put_request, with_answer};
use crate::failure::Failure;

/// Arguments for acquiring a permit.
pub(super) struct PermitArguments<'a> {
    pub(super) key: &'a str,
    pub(super) flags: PermitFlags,
    pub(super) owner: &'a str,
    pub(super) lease: u64,
    pub(super) wait: u64,
}

impl Session {
    /// Gets an entry or acquires its permit, in a task of its own, since that may wait.
    pub(super) fn acquire_permit(
        &mut self,
        frame: Frame,
        arguments: PermitArguments<'_>,
    ) -> Result<(), Failure> {
        let refiller = self.opened(frame.namespace)?.refills()?;
        let (service, key) = (Arc::clone(&self.service), key(arguments.key)?);
        let request = PermitRequest {
            owner: self.owner(arguments.owner).into(),
            wait: Duration::from_millis(arguments.wait),
            lease: Duration::from_millis(arguments.lease),
            stale: arguments.flags.stale,
            refresh: arguments.flags.refresh,
            access: self.access(),
        };
        let replies = self.replies.clone();
        let fields = ValueFields { details: arguments.flags.details, revision: false };
        self.carry_out(frame, async move {
            let mut encoded = Encoded::default();
            let answer = refiller.acquire_permit(&key, request).await.and_then(|asked| {
                if let PermitOutcome::Value(answer) = &asked {
                    encoded.reservation = replies.reserve_all(answer.size())?;
                    encoded.reservation.join(refiller.in_flight().reserve_all(answer.size())?);
                }
                Ok(asked)
            });
            match answer {
                Ok(PermitOutcome::Value(answer)) => {
                    with_answer(&service, &answer, fields, |value| {
                        Reply::Value(value).encode(frame, &mut encoded.frames);
                    })
                }
                Ok(PermitOutcome::Permit(permit)) => {
                    let ends_in = milliseconds(permit.ends_at.since(service.engine().now()));
                    let reply = Reply::Permit { permit: permit.number.0, ends_in };
                    reply.encode(frame, &mut encoded.frames);
                }
                Ok(PermitOutcome::Later(time)) => {
                    let reply = Reply::Later { retry_after: milliseconds(time) };
                    reply.encode(frame, &mut encoded.frames);
                }
                Err(error) => fail(frame, &error.into(), &mut encoded.frames),
            }
            encoded
        })
    }

    /// Waits for a key to refill, in a task of its own.
    pub(super) fn await_refill(
        &mut self,
        frame: Frame,
        owner: &str,
        (lease, wait): (u64, u64),
    ) -> Result<(), Failure> {
        let refiller = self.opened(frame.namespace)?.refills()?;
        let service = Arc::clone(&self.service);
        let request = AwaitRefill {
            owner: self.owner(owner).into(),
            wait: Duration::from_millis(wait),
            lease: Duration::from_millis(lease),
            access: self.access(),
        };
        self.carry_out(frame, async move {
            let mut encoded = Encoded::default();
            match refiller.await_refill(request).await {
                Ok(Some(permit)) => {
                    let ends_in = milliseconds(permit.ends_at.since(service.engine().now()));
                    let (number, key) = (permit.number.0, permit.key.as_str());
                    let reply = Reply::Wanted { permit: number, ends_in, key };
                    reply.encode(frame, &mut encoded.frames);
                }
                Ok(None) => Reply::Miss.encode(frame, &mut encoded.frames),
                Err(error) => fail(frame, &error.into(), &mut encoded.frames),
            }
            encoded
        })
    }

    pub(super) fn put_with_permit(
        &mut self,
        frame: Frame,
        permit: u64,
        put: &Put<'_>,
    ) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?;
        let (key, number) = (key(put.key)?, PermitNumber(permit));
        let entry = writer.store_with_permit(&key, number, put_request(put)?)?;
        let revision = entry.revision.filter(|_| put.tell_revision).map(EntryRevision::number);
        self.outbox.add(frame, &Reply::Done { was_there: false, revision });
        Ok(())
    }

    pub(super) fn release_permit(
        &mut self,
        frame: Frame,
        text: &str,
        permit: u64,
        fail_all: bool,
    ) -> Result<(), Failure> {
        let writer = self.opened(frame.namespace)?.writes()?;
        let number = PermitNumber(permit);
        writer.release_permit(&key(text)?, number, !fail_all)?;
        self.outbox.add(frame, &Reply::done(true));
        Ok(())
    }
}
