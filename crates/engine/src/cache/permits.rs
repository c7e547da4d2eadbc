//! Refill permits for services that refill by themselves.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::entry::Entry;
use verax_core::guard::lock::AccessId;
use verax_core::guard::lock::MAX_OWNER_BYTES;
use verax_core::guard::{
    self, AcquireRefused, PermitHolder, PermitView, ReleaseOutcome, WaitTicket,
};
use verax_core::{
    Freshness, Key, NamespaceId, Partition, Permit, PermitNumber, Precondition, Timestamp,
};

use super::change::Attempt;
use super::put_request::PutRequest;
use super::read::{ReadResult, Source};
use super::refill::{EndedRefill, RefillTerms};
use super::waiter::Refilled;
use super::waiter::{WaitOutcome, Waited, Waiter, notify_all};
use crate::access::LeasedBy;
use crate::background::Work;
use crate::engine::Engine;
use crate::engine::Namespace;
use crate::error::{EngineError, InvalidInput, Overload};
use crate::events::{Event, LookUp, RefillOutcome};
use crate::handle::{Reader, Refiller, Writer};

/// The minimum and maximum lease of a permit.
pub const LEASES: std::ops::RangeInclusive<Duration> =
    Duration::from_millis(10)..=Duration::from_secs(300);

/// How long an expired permit is remembered, so that its holder can be told.
const REMEMBER_EXPIRED: Duration = Duration::from_secs(30);

/// How often expired permits are ended.
const EXPIRE_EVERY: Duration = Duration::from_millis(50);

/// The maximum wait for another caller's value.
pub const MAX_WAIT: Duration = Duration::from_secs(300);

/// How a caller that refills by itself requests a key.
#[derive(Debug, Clone)]
pub struct PermitRequest {
    /// The caller's display name.
    pub owner: Arc<str>,
    /// How long to wait while another caller holds the permit; zero for no wait.
    pub wait: Duration,
    /// The lease of the permit, if one is granted.
    pub lease: Duration,
    /// Whether a stale copy is acceptable while another caller holds the permit.
    pub stale: bool,
    /// Whether to refill even though a fresh copy or a negative entry exists, which is still
    /// acceptable while another caller holds the permit.
    pub refresh: bool,
    /// The access of the request: the permit ends with it.
    pub access: Option<LeasedBy>,
}

impl PermitRequest {
    pub(super) fn refiller(&self) -> guard::Refiller {
        let access = self.access.as_ref().map(|access| access.id);
        guard::Refiller { owner: Arc::clone(&self.owner), access }
    }
}

/// The outcome for a caller that refills by itself.
#[derive(Debug)]
pub enum PermitOutcome {
    /// The value: a copy in the cache, or the one another caller stored.
    Value(Box<ReadResult>),
    /// The right to refill: read the origin, and store the value with this permit.
    Permit(Permit),
    /// Another caller holds the permit for at most this much longer: retry then.
    Later(Duration),
}

/// The result of one look at a key.
enum KeyState {
    Done(PermitOutcome),
    /// A negative entry, valid for this much longer.
    Negative(Duration),
    Wait(WaitTicket, oneshot::Receiver<WaitOutcome>),
    Full(Overload),
}

/// A wait for a permit. Dropping it leaves the queue, and an unclaimed grant passes to the next
/// caller.
pub(super) struct QueuedWait<'s> {
    pub(super) namespace: &'s Arc<Namespace>,
    pub(super) key: &'s Key,
    pub(super) ticket: WaitTicket,
    pub(super) outcome: oneshot::Receiver<WaitOutcome>,
    pub(super) done: bool,
}

impl QueuedWait<'_> {
    /// Waits for at most `time`; `None` on timeout.
    pub(super) async fn wait(mut self, time: Duration) -> Option<WaitOutcome> {
        let mut stopping = self.namespace.engine().stopping();
        let outcome = tokio::select! {
            outcome = tokio::time::timeout(time, &mut self.outcome) => outcome.ok().and_then(Result::ok),
            _ = stopping.wait_for(|stopping| *stopping) => None,
        };
        self.done = outcome.is_some();
        outcome
    }
}

impl Drop for QueuedWait<'_> {
    fn drop(&mut self) {
        let leave = || {
            let mut guarded = self.namespace.guard(self.key);
            guarded.permits.leave(self.namespace.id(), self.key, self.ticket)
        };
        if self.done || leave() {
            return;
        }
        // A grant may be in transit: closing the channel makes sure it has either arrived or is
        // refused.
        self.outcome.close();
        if let Ok(WaitOutcome::Turn(permit)) = self.outcome.try_recv() {
            self.namespace.engine().pass_on(&permit);
        }
    }
}

impl Refiller {
    /// Acquires a key whose value the caller can produce itself: returns the value if present,
    /// otherwise the right to refill it. Dropping the call leaves the queue.
    ///
    /// # Errors
    /// [`EngineError`]: a namespace with an origin, a request out of range, too many queued
    /// callers, or a refill that its holder abandoned.
    pub async fn acquire_permit(
        &self,
        key: &Key,
        request: PermitRequest,
    ) -> Result<PermitOutcome, EngineError> {
        if self.shared().has_origin() {
            return Err(EngineError::HasOrigin { namespace: self.shared().path() });
        }
        let access = request.access.clone();
        let outcome = self.shared().acquire_while_open(key, request).await?;
        // Revoking access raises its signal first and then ends its permits: a permit granted in
        // between is ended there, a later one here.
        if let PermitOutcome::Permit(permit) = &outcome
            && access.is_some_and(|access| access.signal.has_ended())
        {
            self.engine().pass_on(permit);
            return Err(EngineError::AccessEnded);
        }
        if let PermitOutcome::Value(answer) = &outcome {
            self.count_sent(answer.size() as u64);
        }
        Ok(outcome)
    }
}

impl Namespace {
    async fn acquire_while_open(
        self: &Arc<Self>,
        key: &Key,
        request: PermitRequest,
    ) -> Result<PermitOutcome, EngineError> {
        check(&request)?;
        let began = self.engine().now();
        let deadline = began + request.wait;
        loop {
            self.engine().needs_serving()?;
            self.needs_open()?;
            let (ticket, outcome) = match self.look(key, &request, deadline) {
                KeyState::Wait(ticket, outcome) => (ticket, outcome),
                KeyState::Full(why) => return Err(why.into()),
                KeyState::Done(outcome) => {
                    self.count_outcome(&outcome, began);
                    return Ok(outcome);
                }
                KeyState::Negative(left) => {
                    let error = EngineError::NegativeResult { left };
                    return self.known_to_be_missing(error);
                }
            };
            let queued = QueuedWait { namespace: self, key, ticket, outcome, done: false };
            let outcome = match queued.wait(deadline.since(self.engine().now())).await {
                Some(WaitOutcome::Refilled(refilled)) => match self.refilled(refilled, true) {
                    Ok(answer) => PermitOutcome::Value(Box::new(answer)),
                    Err(error) => return self.known_to_be_missing(error),
                },
                Some(WaitOutcome::Turn(permit)) => PermitOutcome::Permit(permit),
                Some(WaitOutcome::AskAgain) => continue,
                Some(WaitOutcome::OriginFailed(error)) => {
                    return self.on_abandoned(key, EngineError::Origin(error));
                }
                Some(WaitOutcome::Abandoned) => {
                    return self.on_abandoned(key, EngineError::RefillAbandoned);
                }
                // The wait timed out; a last look tells how much longer the other caller may
                // refill.
                None => match self.look(key, &request, began) {
                    KeyState::Done(outcome) => outcome,
                    KeyState::Wait(..) | KeyState::Full(_) | KeyState::Negative(_) => {
                        PermitOutcome::Later(Duration::from_secs(1))
                    }
                },
            };
            self.count_outcome(&outcome, began);
            return Ok(outcome);
        }
    }

    fn known_to_be_missing(&self, error: EngineError) -> Result<PermitOutcome, EngineError> {
        self.notify(&Event::LookUp(LookUp::Negative));
        Err(error)
    }

    fn count_outcome(&self, outcome: &PermitOutcome, began: Timestamp) {
        let each = self.engine().now().since(began);
        match outcome {
            PermitOutcome::Value(answer) => self.notify(&match answer.source {
                Source::Hit(_) => Event::Hits { fresh: 1, stale: 0, each },
                Source::Stale(_) | Source::StaleOnError(_) => {
                    Event::Hits { fresh: 0, stale: 1, each }
                }
                Source::Origin(_) | Source::Joined(_) => Event::LookUp(LookUp::Joined),
            }),
            PermitOutcome::Permit(_) => {
                self.notify(&Event::LookUp(LookUp::Missed));
                self.notify(&Event::PermitGranted);
            }
            PermitOutcome::Later(_) => self.notify(&Event::LookUp(LookUp::Missed)),
        }
    }

    /// The refill failed for every waiter: a stale copy is served, marked, if the policy allows it.
    fn on_abandoned(&self, key: &Key, error: EngineError) -> Result<PermitOutcome, EngineError> {
        let kept = self.partition().get(key.as_str(), self.engine().now());
        let answer = self.kept_on_error(kept.map(|found| found.entry()), error);
        match answer {
            Ok(Some(answer)) => {
                self.notify(&Event::LookUp(LookUp::StaleOnError));
                Ok(PermitOutcome::Value(Box::new(answer)))
            }
            Ok(None) => Ok(PermitOutcome::Later(Duration::from_secs(1))),
            Err(error) => {
                self.notify(&Event::LookUp(LookUp::Missed));
                Err(error)
            }
        }
    }

    /// Looks at entry and permit together under the key's guard, so that a concurrently stored
    /// value is either seen now or still to be waited for.
    fn look(&self, key: &Key, request: &PermitRequest, deadline: Timestamp) -> KeyState {
        let (id, mut turns) = (self.id(), Vec::new());
        let mut guarded = self.guard(key);
        let (now, permits) = (guarded.now, &mut guarded.permits);
        let found = self.partition().get(key.as_str(), now);
        let (mut refresh, mut negative) = (request.refresh, None);
        if let Some(found) = &found
            && let Freshness::Fresh(left) = found.freshness()
        {
            if found.is_negative() {
                if !refresh {
                    return KeyState::Negative(left);
                }
                negative = Some(left);
            }
            refresh |= self.is_due(|| found.refill_took(), left);
        }
        let copy = found.filter(|found| !found.is_negative()).map(|found| {
            let age = now.since(found.stored_at());
            let (source, time_left) = match found.freshness() {
                Freshness::Fresh(left) => (Source::Hit(left), Some(left)),
                Freshness::Stale(since) | Freshness::OnlyOnError(since) => {
                    (Source::Stale(since), None)
                }
                Freshness::Ended => (Source::Stale(Duration::ZERO), None),
            };
            let servable = matches!(found.freshness(), Freshness::Fresh(_) | Freshness::Stale(_));
            (servable, ReadResult { entry: found.entry(), age, time_left, source })
        });
        let step = match copy {
            Some((_, answer)) if answer.time_left.is_some() && !refresh => {
                KeyState::Done(PermitOutcome::Value(Box::new(answer)))
            }
            copy => {
                match permits.acquire(id, key, &request.refiller(), now, request.lease, &mut turns)
                {
                    Ok(permit) => KeyState::Done(PermitOutcome::Permit(permit)),
                    Err(refused) => match copy {
                        Some((true, answer)) if request.stale || answer.time_left.is_some() => {
                            KeyState::Done(PermitOutcome::Value(Box::new(answer)))
                        }
                        _ => match refused {
                            AcquireRefused::Full => KeyState::Full(Overload::Permits),
                            // Like a fresh copy, it is acceptable while another caller refills.
                            AcquireRefused::Live(_) if let Some(left) = negative => {
                                KeyState::Negative(left)
                            }
                            AcquireRefused::Live(live) if now >= deadline => {
                                KeyState::Done(PermitOutcome::Later(live.ends_at.since(now)))
                            }
                            AcquireRefused::Live(_) => {
                                let ((waiter, outcome), caller) =
                                    (Waiter::new(now), request.refiller());
                                match permits.wait(id, key, &caller, waiter, request.lease) {
                                    Ok(ticket) => KeyState::Wait(ticket, outcome),
                                    Err(_) => KeyState::Full(Overload::WaitingCallers),
                                }
                            }
                        },
                    },
                }
            }
        };
        drop(guarded);
        self.engine().give_turns(turns);
        step
    }
}

impl Writer {
    /// Stores the value of a permit; every waiting caller receives it immediately.
    ///
    /// # Errors
    /// [`EngineError::Permit`] when the permit has ended; [`EngineError::ValueTooLarge`], which
    /// leaves the permit valid; [`EngineError::DoesNotFit`] when waiting callers have received the
    /// value but it was not stored.
    pub fn store_with_permit(
        &self,
        key: &Key,
        number: PermitNumber,
        request: PutRequest,
    ) -> Result<Entry, EngineError> {
        self.count_received(request.value.len() as u64);
        let entry = self.entry_of(request, self.engine().now())?;
        let held = self.held(key, number);
        let mut entry = entry.refilled_in(held.took);
        let store = |partition: &Partition, now| match entry.lifetime.total().is_zero() {
            true => Attempt::Unchanged(Ok(None)),
            false => match partition.put(key, &entry, Precondition::Always, now) {
                Ok(put) => Attempt::Changed(Ok(Some(put.revision))),
                Err(error) => Attempt::Unchanged(Err(EngineError::DoesNotFit(error))),
            },
        };
        let finished = self.finish(key, number, store);
        let now = self.engine().now();
        let (stored, waiters) = match finished {
            Ok(finished) => finished,
            Err(refused) => {
                let waited = Waited::of(&refused.waiters, now);
                let ended = EndedRefill::without_value(held.took, refused.reason.into(), waited);
                self.refill_ended(key, held.by, ended, now);
                notify_all(refused.waiters, &WaitOutcome::AskAgain);
                return Err(EngineError::Permit(refused.reason));
            }
        };
        entry.revision = stored.as_ref().ok().copied().flatten();
        let is_stored = entry.revision.is_some();
        let outcome = match is_stored {
            true if entry.is_negative() => RefillOutcome::NoValue,
            true => RefillOutcome::Stored,
            false => RefillOutcome::NotStored,
        };
        let entity_tag = (outcome == RefillOutcome::Stored).then(|| entry.entity_tag());
        let waited = Waited::of(&waiters, now);
        let ended = EndedRefill { took: held.took, outcome, entity_tag, waited };
        self.refill_ended(key, held.by, ended, now);
        self.notify(&Event::CallerRead(held.took));
        // Waiting callers receive the value even if it does not fit.
        let (stored_entry, origin_took) = (entry.clone(), held.took);
        let refilled = Refilled { entry: stored_entry, stored: is_stored, origin_took };
        notify_all(waiters, &WaitOutcome::Refilled(refilled));
        stored.map(|_| entry)
    }

    /// Releases a permit without a value. With `next` the first queued caller becomes the holder;
    /// without it the refill has failed for every waiting caller.
    ///
    /// # Errors
    /// [`EngineError::Permit`] when it was over already.
    pub fn release_permit(
        &self,
        key: &Key,
        number: PermitNumber,
        next: bool,
    ) -> Result<(), EngineError> {
        let held = self.held(key, number);
        let mut guarded = self.guard(key);
        let now = guarded.now;
        let given = guarded.permits.release(self.id(), key, number, next, now);
        drop(guarded);
        let given = given.map_err(EngineError::Permit)?;
        self.notify(&Event::CallerFailed);
        let waited = match &given {
            ReleaseOutcome::Turn(..) => Waited::default(),
            ReleaseOutcome::Failed(waiters) => Waited::of(waiters, now),
        };
        let ended = EndedRefill::without_value(held.took, RefillOutcome::Failed, waited);
        self.refill_ended(key, held.by, ended, now);
        match given {
            ReleaseOutcome::Turn(permit, waiter) => {
                self.engine().give_turns(vec![(permit, waiter)])
            }
            ReleaseOutcome::Failed(waiters) => notify_all(waiters, &WaitOutcome::Abandoned),
        }
        Ok(())
    }
}

/// The permit's state, as of now.
pub(super) struct PermitLease {
    pub(super) took: Duration,
    pub(super) by: String,
}

impl Namespace {
    /// How long a permit has been held and by whom, unless it ended long ago.
    pub(super) fn held(&self, key: &Key, number: PermitNumber) -> PermitLease {
        let guarded = self.guard(key);
        match guarded.permits.view(self.id(), key, number) {
            Some(view) => PermitLease {
                took: guarded.now.since(view.permit.since),
                by: view.held_by.to_string(),
            },
            None => PermitLease { took: Duration::ZERO, by: "somebody late".to_owned() },
        }
    }
}

impl Reader {
    /// At most `most` live permits, oldest first.
    pub fn permits(&self, most: usize) -> Vec<PermitView> {
        self.engine().permits_where(|of| of == self.id(), most)
    }
}

/// How many refills are active, and how many callers wait for one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RefillCounts {
    /// Live permits.
    pub live: usize,
    /// Waiting callers.
    pub waiting: usize,
}

impl Engine {
    /// At most `most` live permits of the namespaces that `which` accepts, oldest first.
    pub fn permits_where(
        &self,
        which: impl Fn(NamespaceId) -> bool,
        most: usize,
    ) -> Vec<PermitView> {
        let mut views = Vec::new();
        for guard in self.cache.guards() {
            views.extend(guard.oldest(&which, most));
        }
        views.sort_by_key(|view: &PermitView| (view.permit.since, view.permit.number));
        views.truncate(most);
        views
    }

    /// The number of active refills in all namespaces.
    pub fn refills(&self) -> RefillCounts {
        self.cache.guards().fold(RefillCounts::default(), |sum, guard| RefillCounts {
            live: sum.live + guard.live(),
            waiting: sum.waiting + guard.waiters(),
        })
    }

    /// The number of active refills by namespace, where there are any.
    pub fn refills_by_namespace(&self) -> HashMap<NamespaceId, RefillCounts> {
        let mut counts: HashMap<NamespaceId, RefillCounts> = HashMap::new();
        for guard in self.cache.guards() {
            for view in guard.views() {
                let of = counts.entry(view.namespace).or_default();
                of.live += 1;
                of.waiting += view.waiting;
            }
        }
        counts
    }

    /// Notifies callers that the permit is theirs. A caller that has gone passes it on immediately.
    pub(super) fn give_turns(&self, turns: Vec<(Permit, Waiter)>) {
        for (permit, waiter) in turns {
            if !waiter.notify(WaitOutcome::Turn(permit.clone())) {
                self.pass_on(&permit);
            }
        }
    }

    /// Passes an unused permit along the queue until a caller takes it.
    pub(super) fn pass_on(&self, permit: &Permit) {
        let mut permit = permit.clone();
        loop {
            let (id, key, now) = (permit.namespace, permit.key.clone(), self.now());
            let given = self.cache.guard(id, &key).release(id, &key, permit.number, true, now);
            let Ok(ReleaseOutcome::Turn(next, waiter)) = given else { return };
            if waiter.notify(WaitOutcome::Turn(next.clone())) {
                return;
            }
            permit = next;
        }
    }

    /// Ends the permits and waits of a revoked access; the next queued callers may refill.
    pub(crate) fn withdraw_permits(&self, access: AccessId) {
        let (now, mut turns) = (self.now(), Vec::new());
        self.cache.guards().for_each(|mut guard| guard.withdraw(access, now, &mut turns));
        self.give_turns(turns);
    }

    /// Ends expired permits.
    fn expire_permits(&self, now: Timestamp) {
        let (mut refills, mut turns, mut over) = (Vec::new(), Vec::new(), Vec::new());
        for mut guard in self.cache.guards() {
            if guard.next_moment().is_none_or(|next| now < next) {
                continue;
            }
            over.extend(guard.over(now));
            let expired = guard.expire(now, REMEMBER_EXPIRED);
            refills.extend(expired.refills);
            turns.extend(expired.turns);
        }
        // Waiters of a voided permit that expired are dropped, which notifies them.
        for view in over {
            if let PermitHolder::Caller(caller) = &view.held_by
                && let Some(namespace) = self.namespace(view.namespace)
            {
                let (took, nobody) = (now.since(view.permit.since), Waited::default());
                let (outcome, by) = (RefillOutcome::Expired, &*caller.owner);
                let ended = EndedRefill::without_value(took, outcome, nobody);
                namespace.refill_ended(&view.key, by, ended, now);
            }
        }
        self.give_turns(turns);
        for permit in refills {
            if let Some(namespace) = self.namespace(permit.namespace) {
                namespace.start_refill(permit, RefillTerms::default());
            }
        }
    }
}

/// Ends expired permits, and waits that have timed out.
pub(crate) fn end_permits_in_time(engine: Arc<Engine>) -> Work {
    Box::pin(async move {
        let mut ticks = tokio::time::interval(EXPIRE_EVERY);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            engine.expire_permits(engine.now());
        }
    })
}

pub(super) fn check(request: &PermitRequest) -> Result<(), EngineError> {
    let PermitRequest { lease, wait, owner, .. } = request;
    if !LEASES.contains(lease) {
        return Err(InvalidInput::Lease { lease: *lease, range: LEASES }.into());
    }
    if *wait > MAX_WAIT {
        return Err(InvalidInput::Wait { wait: *wait, max: MAX_WAIT }.into());
    }
    if owner.len() > MAX_OWNER_BYTES {
        return Err(InvalidInput::Owner { bytes: owner.len(), max: MAX_OWNER_BYTES }.into());
    }
    Ok(())
}
