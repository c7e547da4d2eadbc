//! Dispatches requests to the parts of the session.

use std::time::Duration;

use verax_core::store::Rate;
use verax_wire::{Frame, Reply, Request};

use super::hits::Hits;
use super::locks::LockArguments;
use super::permits::PermitArguments;
use super::session::Session;
use crate::failure::Failure;

/// Handles a request about a namespace, either now or in a task of its own.
pub(super) fn dispatch(
    session: &mut Session,
    frame: Frame,
    request: Request<'_>,
    hits: &mut Hits,
) -> Result<(), Failure> {
    // Its namespace must be open.
    session.opened(frame.namespace)?;
    match request {
        Request::Get { key, flags } => session.get(frame, key, flags, hits),
        Request::Put(put) => session.put(frame, &put),
        Request::Delete { key } => session.delete(frame, key),
        Request::SetLifetime { key, lifetime } => session.set_lifetime(frame, key, lifetime),
        Request::InvalidateTag { tag } => session.invalidate_tag(frame, tag),
        Request::ReportDamage { entity_tag, reason, key } => {
            session.report_damage(frame, key, entity_tag, reason)
        }
        Request::Add { key, amount, lifetime } => session.add(frame, key, amount, lifetime),
        Request::AcquireRate { key, amount, count, period, burst } => {
            let rate = Rate::new(count, Duration::from_millis(period), burst);
            session.acquire_rate(frame, key, amount, rate.map_err(Failure::invalid)?)
        }
        Request::List { prefix, cursor, limit } => session.list(frame, prefix, cursor, limit),
        Request::Clear { prefix } => session.clear(frame, prefix),
        Request::Batch(operations) => session.batch(frame, &operations),
        Request::AcquireLock { name, owner, lease, wait, ends_with_connection } => {
            let arguments = LockArguments { name, owner, lease, wait, ends_with_connection };
            session.acquire_lock(frame, arguments)
        }
        Request::RenewLock { name, fencing_token, lease } => {
            session.renew_lock(frame, name, fencing_token, lease)
        }
        Request::ReleaseLock { name, fencing_token } => {
            session.release_lock(frame, name, fencing_token)
        }
        Request::PeekLock { name } => session.peek_lock(frame, name),
        Request::AcquirePermit { key, flags, owner, lease, wait } => {
            session.acquire_permit(frame, PermitArguments { key, flags, owner, lease, wait })
        }
        Request::AwaitRefill { lease, wait, owner } => {
            session.await_refill(frame, owner, (lease, wait))
        }
        Request::PutWithPermit { permit, put } => session.put_with_permit(frame, permit, &put),
        Request::ReleasePermit { key, permit, fail_all } => {
            session.release_permit(frame, key, permit, fail_all)
        }
        Request::Watch => {
            let reader = session.opened(frame.namespace)?.reads()?.clone();
            session.watch(frame.namespace, &reader);
            session.outbox.add(frame, &Reply::done(true));
            Ok(())
        }
        Request::Hello(_)
        | Request::Open { .. }
        | Request::Ping
        | Request::Goodbye
        | Request::Trace { .. } => Err(Failure::invalid("this request is not about a namespace")),
    }
}
