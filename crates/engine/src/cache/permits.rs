//! Refill permits for services that refill by themselves.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::entry::Entry;
use verax_core::guard::lock::AccessId;
use verax_core::guard::{
    self, AcquireRefused, PermitHolder, PermitView, ReleaseOutcome, WaitTicket,
};
use verax_core::{
    Freshness, Key, NamespaceId, Partition, Permit, PermitNumber, Precondition, Timestamp,
};

use super::change::Attempt;
use super::put_request::PutRequest;
use super::read::{ReadResult, Source};
use super::waiter::Refilled;
use super::waiter::{WaitOutcome, Waited, Waiter, notify_all};
use crate::access::LeasedBy;
use crate::background::Work;
use crate::engine::Engine;
use crate::engine::Namespace;
use crate::error::EngineError;
use crate::events::{Event, LookUp, RefillOutcome};
use crate::handle::{Reader, Refiller, Writer};

/// The shortest and the longest lease of a permit.
pub const LEASES: std::ops::RangeInclusive<Duration> =
    Duration::from_millis(10)..=Duration::from_secs(300);

/// How long it is remembered that a permit has expired, to say so to its holder.
const REMEMBER_EXPIRED: Duration = Duration::from_secs(30);

/// How often it is looked which permits are over.
const EXPIRE_EVERY: Duration = Duration::from_millis(50);

/// The longest wait for another caller's value.
pub const MAX_WAIT: Duration = Duration::from_secs(300);

/// How a caller that refills by itself asks for a key.
#[derive(Debug, Clone)]
pub struct PermitRequest {
    /// The caller's display name.
    pub owner: Arc<str>,
    /// How long to wait while another caller holds the permit; zero not to wait.
    pub wait: Duration,
    /// How long the permit lasts if the caller gets it.
    pub lease: Duration,
    /// Whether a stale copy will do while another caller holds the permit.
    pub stale: bool,
    /// Whether the permit is wanted although a fresh copy is there, which will do while another
    /// caller holds it, or the word that there is no value.
    pub refresh: bool,
    /// The access that it is asked for with: the permit ends with it.
    pub access: Option<LeasedBy>,
}

impl PermitRequest {
    fn refiller(&self) -> guard::Refiller {
        let access = self.access.as_ref().map(|access| access.id);
        guard::Refiller { owner: Arc::clone(&self.owner), access }
    }
}

/// What a caller that refills by itself gets.
#[derive(Debug)]
pub enum PermitOutcome {
    /// The value: a copy that was there, or the one that another caller brought.
    Value(Box<ReadResult>),
    /// The right to refill: read the origin, and store the value with this permit.
    Permit(Permit),
    /// Another caller refills for at most this long yet: come back then.
    Later(Duration),
}

/// What one look at a key says.
enum Step {
    Done(PermitOutcome),
    /// It is known that there is no value, for this long yet.
    Negative(Duration),
    Wait(WaitTicket, oneshot::Receiver<WaitOutcome>),
    Full(&'static str),
}

const MANY_WAITERS: &str = "too many callers wait for this key; retry in a second";

const MANY_PERMITS: &str = "this namespace has as many refill permits as it may; retry in a second";

/// A wait for a permit. It is left when this is dropped, and a turn that nobody took is passed on.
struct QueuedWait<'s> {
    namespace: &'s Arc<Namespace>,
    key: &'s Key,
    ticket: WaitTicket,
    told: oneshot::Receiver<WaitOutcome>,
    done: bool,
}

impl QueuedWait<'_> {
    /// Waits for at most `time`; `None` when it is over.
    async fn wait(mut self, time: Duration) -> Option<WaitOutcome> {
        let mut stopping = self.namespace.engine().stopping();
        let told = tokio::select! {
            told = tokio::time::timeout(time, &mut self.told) => told.ok().and_then(Result::ok),
            _ = stopping.wait_for(|stopping| *stopping) => None,
        };
        self.done = told.is_some();
        told
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
        // A turn may be on its way: closing makes sure that it is either here or refused.
        self.told.close();
        if let Ok(WaitOutcome::Turn(permit)) = self.told.try_recv() {
            self.namespace.engine().pass_on(&permit);
        }
    }
}

impl Refiller {
    /// Asks for a key whose value the caller can produce itself: for the value if it is there, else
    /// for the right to refill it. Dropping the call leaves the queue.
    ///
    /// # Errors
    /// [`EngineError`]: a request out of range, too many queued callers, or a refill that another
    /// caller gave up for all.
    pub async fn ask(
        &self,
        key: &Key,
        request: PermitRequest,
    ) -> Result<PermitOutcome, EngineError> {
        let access = request.access.clone();
        let asked = self.shared().ask_while_open(key, request).await?;
        // Withdrawing access raises its signal first and then ends its permits: one that came in
        // between is found there, and a later one here.
        if let PermitOutcome::Permit(permit) = &asked
            && access.is_some_and(|access| access.signal.has_ended())
        {
            self.engine().pass_on(permit);
            return Err(EngineError::AccessEnded);
        }
        Ok(asked)
    }
}

impl Namespace {
    async fn ask_while_open(
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
            let (ticket, told) = match self.look(key, &request, deadline) {
                Step::Wait(ticket, told) => (ticket, told),
                Step::Full(why) => return Err(EngineError::Busy(why)),
                Step::Done(asked) => {
                    self.count_asked(&asked, began);
                    return Ok(asked);
                }
                Step::Negative(left) => {
                    let error = EngineError::NegativeResult { left };
                    return self.known_to_be_missing(error);
                }
            };
            let line = QueuedWait { namespace: self, key, ticket, told, done: false };
            let asked = match line.wait(deadline.since(self.engine().now())).await {
                Some(WaitOutcome::Refilled(refilled)) => match self.refilled(refilled, true) {
                    Ok(answer) => PermitOutcome::Value(Box::new(answer)),
                    Err(error) => return self.known_to_be_missing(error),
                },
                Some(WaitOutcome::Turn(permit)) => PermitOutcome::Permit(permit),
                Some(WaitOutcome::AskAgain) => continue,
                Some(WaitOutcome::OriginFailed(error)) => {
                    return self.given_up(key, EngineError::Origin(error));
                }
                Some(WaitOutcome::Abandoned) => {
                    return self.given_up(key, EngineError::RefillAbandoned);
                }
                // The wait is over; one last look says for how long another caller refills yet.
                None => match self.look(key, &request, began) {
                    Step::Done(asked) => asked,
                    Step::Wait(..) | Step::Full(_) | Step::Negative(_) => {
                        PermitOutcome::Later(Duration::from_secs(1))
                    }
                },
            };
            self.count_asked(&asked, began);
            return Ok(asked);
        }
    }

    fn known_to_be_missing(&self, error: EngineError) -> Result<PermitOutcome, EngineError> {
        self.notify(&Event::LookUp(LookUp::Negative));
        Err(error)
    }

    fn count_asked(&self, asked: &PermitOutcome, began: Timestamp) {
        let each = self.engine().now().since(began);
        match asked {
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

    /// A refill failed for all: a copy that policy still allows then is served, marked.
    fn given_up(&self, key: &Key, error: EngineError) -> Result<PermitOutcome, EngineError> {
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

    /// Looks at entry and permit together, under the key's guard, so that a value which is stored
    /// meanwhile is either seen or still to be waited for.
    fn look(&self, key: &Key, request: &PermitRequest, deadline: Timestamp) -> Step {
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
                    return Step::Negative(left);
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
                Step::Done(PermitOutcome::Value(Box::new(answer)))
            }
            copy => {
                match permits.acquire(id, key, &request.refiller(), now, request.lease, &mut turns)
                {
                    Ok(permit) => Step::Done(PermitOutcome::Permit(permit)),
                    Err(refused) => match copy {
                        Some((true, answer)) if request.stale || answer.time_left.is_some() => {
                            Step::Done(PermitOutcome::Value(Box::new(answer)))
                        }
                        _ => match refused {
                            AcquireRefused::Full => Step::Full(MANY_PERMITS),
                            // As a fresh copy would, it will do while another caller refills.
                            AcquireRefused::Live(_) if let Some(left) = negative => {
                                Step::Negative(left)
                            }
                            AcquireRefused::Live(live) if now >= deadline => {
                                Step::Done(PermitOutcome::Later(live.ends_at.since(now)))
                            }
                            AcquireRefused::Live(_) => {
                                let ((waiter, told), caller) =
                                    (Waiter::new(now), request.refiller());
                                match permits.wait(id, key, &caller, waiter, request.lease) {
                                    Ok(ticket) => Step::Wait(ticket, told),
                                    Err(_) => Step::Full(MANY_WAITERS),
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
    /// Stores the value that a permit was given for; everybody who waits gets it at once.
    ///
    /// # Errors
    /// [`EngineError::Permit`] when the permit is over; [`EngineError::ValueTooLarge`], which
    /// leaves the permit as it is; [`EngineError::DoesNotFit`] when those who wait have the value,
    /// and the store has not.
    pub fn store_with_permit(
        &self,
        key: &Key,
        number: PermitNumber,
        request: PutRequest,
    ) -> Result<Entry, EngineError> {
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
                self.refill_ended(key, held.by, held.took, refused.reason.into(), waited, now);
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
        self.refill_ended(key, held.by, held.took, outcome, Waited::of(&waiters, now), now);
        self.notify(&Event::CallerRead(held.took));
        // Those who wait have the value even if it does not fit.
        let (stored_entry, origin_took) = (entry.clone(), held.took);
        let told = Refilled { entry: stored_entry, stored: is_stored, origin_took };
        notify_all(waiters, &WaitOutcome::Refilled(told));
        stored.map(|_| entry)
    }

    /// Gives a permit back without a value. With `next` the first in the queue becomes the holder;
    /// without it the refill has failed for all who wait.
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
        self.refill_ended(key, held.by, held.took, RefillOutcome::Failed, waited, now);
        match given {
            ReleaseOutcome::Turn(permit, waiter) => {
                self.engine().give_turns(vec![(permit, waiter)])
            }
            ReleaseOutcome::Failed(waiters) => notify_all(waiters, &WaitOutcome::Abandoned),
        }
        Ok(())
    }
}

/// A permit as it was held.
pub(super) struct PermitLease {
    pub(super) took: Duration,
    pub(super) by: String,
}

impl Namespace {
    /// How long a permit has been held, and by whom, unless it is long over.
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
    /// The live permits, oldest first, and at most `most` of them.
    pub fn permits(&self, most: usize) -> Vec<PermitView> {
        self.engine().permits_where(|of| of == self.id(), most)
    }
}

/// How many refills are under way, and how many callers wait for one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RefillCounts {
    /// Live permits.
    pub live: usize,
    /// Callers that wait.
    pub waiting: usize,
}

impl Engine {
    /// The live permits in the namespaces that `which` holds for, oldest first, and at most `most`
    /// of them.
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

    /// How many refills are under way in all namespaces.
    pub fn refills(&self) -> RefillCounts {
        self.cache.guards().fold(RefillCounts::default(), |sum, guard| RefillCounts {
            live: sum.live + guard.live(),
            waiting: sum.waiting + guard.waiters(),
        })
    }

    /// The same by namespace, for those where a refill is under way.
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

    /// Tells callers that the permit is theirs. One that has gone passes it on at once.
    pub(super) fn give_turns(&self, turns: Vec<(Permit, Waiter)>) {
        for (permit, waiter) in turns {
            if !waiter.notify(WaitOutcome::Turn(permit.clone())) {
                self.pass_on(&permit);
            }
        }
    }

    /// Passes a permit that nobody uses on to the next in the queue, until somebody takes it.
    fn pass_on(&self, permit: &Permit) {
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

    /// Ends the permits and waits of an access that was withdrawn; those next in the queue may
    /// refill.
    pub(crate) fn withdraw_permits(&self, access: AccessId) {
        let (now, mut turns) = (self.now(), Vec::new());
        self.cache.guards().for_each(|mut guard| guard.withdraw(access, now, &mut turns));
        self.give_turns(turns);
    }

    /// Ends permits whose time is over.
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
        // Those who waited for a voided permit that ran out are dropped, which tells them.
        for view in over {
            if let PermitHolder::Caller(caller) = &view.held_by
                && let Some(namespace) = self.namespace(view.namespace)
            {
                let (took, nobody) = (now.since(view.permit.since), Waited::default());
                let (outcome, by) = (RefillOutcome::Expired, &*caller.owner);
                namespace.refill_ended(&view.key, by, took, outcome, nobody, now);
            }
        }
        self.give_turns(turns);
        for permit in refills {
            if let Some(namespace) = self.namespace(permit.namespace) {
                namespace.start_refill(permit, None);
            }
        }
    }
}

/// Ends permits and waits for them when their time is over.
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

fn check(request: &PermitRequest) -> Result<(), EngineError> {
    let PermitRequest { lease, wait, owner, .. } = request;
    if !LEASES.contains(lease) {
        return Err(EngineError::Invalid(format!(
            "a lease of {} s is out of range: use {} s to {} s",
            lease.as_secs_f64(),
            LEASES.start().as_secs_f64(),
            LEASES.end().as_secs()
        )));
    }
    if *wait > MAX_WAIT {
        return Err(EngineError::Invalid(format!(
            "a wait of {} s is out of range: use at most {} s, and repeat the request",
            wait.as_secs_f64(),
            MAX_WAIT.as_secs()
        )));
    }
    if owner.len() > verax_core::guard::lock::MAX_OWNER_BYTES {
        return Err(EngineError::Invalid(
            "the owner's name is too long: use at most 200 bytes".into(),
        ));
    }
    Ok(())
}
