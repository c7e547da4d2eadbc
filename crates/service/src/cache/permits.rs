//! Refill permits for services that refill by themselves.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::oneshot;
use verax_core::entry::Entry;
use verax_core::guard::lock::AccessId;
use verax_core::guard::{GivenBack, HeldBy, PermitView, Refiller, RefusedReason, WaitTicket};
use verax_core::{
    Freshness, Key, NamespaceId, Permit, PermitNumber, Precondition, Timestamp, Voided,
};

use super::invalidation::Invalidation;
use super::read::{Answer, Source};
use super::trace::{RefillOutcome, RefillRecord};
use super::waiter::{Told, Waited, Waiter, tell_all};
use super::{PutRequest, Refilled};
use crate::access::{ENDED, LeasedBy};
use crate::error::ServiceError;
use crate::namespace::{Namespace, count};
use crate::service::Service;

/// The shortest and the longest hold of a permit.
const HOLDS: std::ops::RangeInclusive<Duration> =
    Duration::from_millis(10)..=Duration::from_secs(300);

/// The longest wait for another caller's value.
const LONGEST_WAIT: Duration = Duration::from_secs(300);

/// How a caller that refills by itself asks for a key.
#[derive(Debug, Clone)]
pub struct PermitRequest {
    /// Who asks, in words for people.
    pub owner: Arc<str>,
    /// How long to wait while another caller holds the permit; zero to be told at once.
    pub wait: Duration,
    /// How long the permit lasts if the caller gets it.
    pub hold: Duration,
    /// Whether a stale copy will do while another caller holds the permit.
    pub stale: bool,
    /// Whether the permit is wanted although a fresh copy is there, which will do while another caller
    /// holds it, or the word that there is no value.
    pub refresh: bool,
    /// The access that it is asked for with: the permit ends with it.
    pub access: Option<LeasedBy>,
}

impl PermitRequest {
    fn refiller(&self) -> Refiller {
        let access = self.access.as_ref().map(|access| access.id);
        Refiller { owner: Arc::clone(&self.owner), access }
    }
}

/// What a caller that refills by itself gets.
#[derive(Debug)]
pub enum Asked {
    /// The value: a copy that was there, or the one that another caller brought.
    Value(Answer),
    /// The right to refill: read the origin, and store the value with this permit.
    Permit(Permit),
    /// Another caller refills for at most this long yet: come back then.
    Later(Duration),
}

/// What one look at a key says.
enum Step {
    Done(Box<Asked>),
    /// It is known that there is no value, for this long yet.
    Negative(Duration),
    Wait(WaitTicket, oneshot::Receiver<Told>),
    Full,
}

/// A wait for a permit. It is left when this is dropped, and a turn that nobody took is passed on.
struct InLine<'s> {
    service: &'s Arc<Service>,
    namespace: NamespaceId,
    key: &'s Key,
    ticket: WaitTicket,
    told: oneshot::Receiver<Told>,
    done: bool,
}

impl InLine<'_> {
    /// Waits for at most `time`; `None` when it is over.
    async fn wait(mut self, time: Duration) -> Option<Told> {
        let mut stopping = self.service.stopping();
        let told = tokio::select! {
            told = tokio::time::timeout(time, &mut self.told) => told.ok().and_then(Result::ok),
            _ = stopping.wait_for(|stopping| *stopping) => None,
        };
        self.done = told.is_some();
        told
    }
}

impl Drop for InLine<'_> {
    fn drop(&mut self) {
        let leave = || {
            let mut guard = self.service.cache.guard(self.namespace, self.key);
            guard.leave(self.namespace, self.key, self.ticket)
        };
        if self.done || leave() {
            return;
        }
        // A turn may be on its way: closing makes sure that it is either here or refused.
        self.told.close();
        if let Ok(Told::Turn(permit)) = self.told.try_recv() {
            self.service.pass_on(&permit);
        }
    }
}

impl Service {
    /// Asks for a key whose value the caller can produce itself: for the value if it is there, else
    /// for the right to refill it. Dropping the call leaves the line.
    ///
    /// # Errors
    /// [`ServiceError`]: a request out of range, too many callers in line, or a refill that another
    /// caller gave up for all.
    pub async fn ask(
        self: &Arc<Self>,
        namespace: &Arc<Namespace>,
        key: &Key,
        request: PermitRequest,
    ) -> Result<Asked, ServiceError> {
        let access = request.access.clone();
        let asked = self.ask_while_open(namespace, key, request).await?;
        // Withdrawing access raises its signal first and then ends its permits: one that came in
        // between is found there, and a later one here.
        if let Asked::Permit(permit) = &asked
            && access.is_some_and(|access| access.signal.has_ended())
        {
            self.pass_on(permit);
            return Err(ServiceError::NotSignedIn(ENDED));
        }
        Ok(asked)
    }

    async fn ask_while_open(
        self: &Arc<Self>,
        namespace: &Arc<Namespace>,
        key: &Key,
        request: PermitRequest,
    ) -> Result<Asked, ServiceError> {
        check(&request)?;
        let began = self.now();
        let deadline = began + request.wait;
        loop {
            self.needs_active()?;
            let (ticket, told) = match self.look(namespace, key, &request, deadline) {
                Step::Wait(ticket, told) => (ticket, told),
                Step::Full => {
                    return Err(ServiceError::Busy(
                        "too many callers wait for this key already; come back in a second",
                    ));
                }
                Step::Done(asked) => {
                    self.count_asked(namespace, &asked, began);
                    return Ok(*asked);
                }
                Step::Negative(left) => {
                    let error = ServiceError::NegativeResult { left };
                    return self.known_to_be_missing(namespace, error);
                }
            };
            let id = namespace.id();
            let line = InLine { service: self, namespace: id, key, ticket, told, done: false };
            let asked = match line.wait(deadline.since(self.now())).await {
                Some(Told::Refilled(refilled)) => match self.refilled(refilled, true) {
                    Ok(answer) => Asked::Value(answer),
                    Err(error) => return self.known_to_be_missing(namespace, error),
                },
                Some(Told::Turn(permit)) => Asked::Permit(permit),
                Some(Told::AskAgain) => continue,
                Some(Told::OriginFailed(error)) => {
                    return self.given_up(namespace, key, ServiceError::Origin(error));
                }
                Some(Told::GivenUp) => {
                    return self.given_up(namespace, key, ServiceError::RefillGivenUp);
                }
                // The wait is over; one last look says for how long another caller refills yet.
                None => match self.look(namespace, key, &request, began) {
                    Step::Done(asked) => *asked,
                    Step::Wait(..) | Step::Full | Step::Negative(_) => {
                        Asked::Later(Duration::from_secs(1))
                    }
                },
            };
            self.count_asked(namespace, &asked, began);
            return Ok(asked);
        }
    }

    fn known_to_be_missing(
        &self,
        namespace: &Namespace,
        error: ServiceError,
    ) -> Result<Asked, ServiceError> {
        self.count_negative(namespace);
        Err(error)
    }

    fn count_asked(&self, namespace: &Namespace, asked: &Asked, began: Timestamp) {
        let counters = namespace.counters();
        let took = self.now().since(began);
        match asked {
            Asked::Value(answer) => match answer.source {
                Source::Hit(_) => counters.count_hits(1, 0, took),
                Source::Stale(_) | Source::StaleOnError(_) => counters.count_hits(0, 1, took),
                Source::Origin(_) | Source::Joined(_) => count(&counters.joined),
            },
            Asked::Permit(_) => {
                count(&counters.misses);
                count(&counters.permits);
            }
            Asked::Later(_) => count(&counters.misses),
        }
    }

    /// A refill failed for all: a copy that policy still allows then is served, marked.
    fn given_up(
        &self,
        namespace: &Namespace,
        key: &Key,
        error: ServiceError,
    ) -> Result<Asked, ServiceError> {
        let kept = namespace.partition().get(key.as_str(), self.now()).map(|found| found.entry());
        let answer = self.kept_on_error(kept, error);
        match answer {
            Ok(Some(answer)) => {
                count(&namespace.counters().stale_on_error);
                Ok(Asked::Value(answer))
            }
            Ok(None) => Ok(Asked::Later(Duration::from_secs(1))),
            Err(error) => {
                count(&namespace.counters().misses);
                Err(error)
            }
        }
    }

    /// Looks at entry and permit together, under the key's guard, so that a value which is stored
    /// meanwhile is either seen or still to be waited for.
    fn look(
        &self,
        namespace: &Namespace,
        key: &Key,
        request: &PermitRequest,
        deadline: Timestamp,
    ) -> Step {
        let (id, now, mut turns) = (namespace.id(), self.now(), Vec::new());
        let mut guard = self.cache.guard(id, key);
        let found = namespace.partition().get(key.as_str(), now);
        let mut refresh = request.refresh;
        if let Some(found) = &found
            && let Freshness::Fresh(left) = found.freshness()
        {
            if found.is_negative() && !refresh {
                return Step::Negative(left);
            }
            refresh |= namespace.is_due(|| found.refill_took(), left);
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
            (servable, Answer { entry: found.entry(), age, time_left, source })
        });
        let step = match copy {
            Some((_, answer)) if answer.time_left.is_some() && !refresh => {
                Step::Done(Box::new(Asked::Value(answer)))
            }
            copy => {
                match guard.claim(id, key, &request.refiller(), now, request.hold, &mut turns) {
                    Ok(permit) => Step::Done(Box::new(Asked::Permit(permit))),
                    Err(live) => match copy {
                        Some((true, answer)) if request.stale || answer.time_left.is_some() => {
                            Step::Done(Box::new(Asked::Value(answer)))
                        }
                        _ if now >= deadline => {
                            Step::Done(Box::new(Asked::Later(live.ends_at.since(now))))
                        }
                        _ => {
                            let (waiter, told) = Waiter::new(now);
                            match guard.wait(id, key, &request.refiller(), waiter, request.hold) {
                                Ok(ticket) => Step::Wait(ticket, told),
                                Err(_) => Step::Full,
                            }
                        }
                    },
                }
            }
        };
        drop(guard);
        self.give_turns(turns);
        step
    }

    /// Stores the value that a permit was given for; everybody who waits gets it at once.
    ///
    /// # Errors
    /// [`ServiceError::Permit`] when the permit is over; [`ServiceError::ValueTooLarge`], which leaves
    /// the permit as it is; [`ServiceError::DoesNotFit`] when those who wait have the value, and the
    /// store has not.
    pub fn store_with_permit(
        &self,
        namespace: &Namespace,
        key: &Key,
        number: PermitNumber,
        request: PutRequest,
    ) -> Result<Entry, ServiceError> {
        let (id, now) = (namespace.id(), self.now());
        let entry = namespace.entry_of(request, now)?;
        let lifetime = entry.lifetime;
        // The permit is checked and the value stored under one lock, so an invalidation comes
        // either before, and voids the permit, or after, and removes the entry.
        let mut guard = self.cache.guard(id, key);
        let (took, holder) = held(guard.view(id, key, number), now);
        let entry = entry.refilled_in(took);
        let waiters = match guard.finish(id, key, number, now) {
            Ok(waiters) => waiters,
            Err(refused) => {
                drop(guard);
                count(&namespace.counters().refused_refills);
                let waited = Waited::of(&refused.waiters, now);
                let outcome = match refused.reason {
                    RefusedReason::Voided => RefillOutcome::Voided,
                    RefusedReason::Lapsed => RefillOutcome::Lapsed,
                };
                self.refill_ended((namespace, key), holder, took, outcome, waited, now);
                tell_all(refused.waiters, &Told::AskAgain);
                return Err(ServiceError::Permit(refused.reason));
            }
        };
        let stored = match lifetime.total().is_zero() {
            true => Ok(false),
            false => {
                namespace.partition().put(key, &entry, Precondition::Always, now).map(|_| true)
            }
        };
        if stored.is_ok() {
            self.tell(namespace, Invalidation::Key(key));
        }
        drop(guard);
        let refilled = Refilled {
            entry: entry.clone(),
            stored: *stored.as_ref().unwrap_or(&false),
            origin_took: took,
        };
        let outcome = match refilled.stored {
            true if entry.is_negative() => RefillOutcome::NoValue,
            true => RefillOutcome::Stored,
            false => RefillOutcome::NotStored,
        };
        let waited = Waited::of(&waiters, now);
        self.refill_ended((namespace, key), holder, took, outcome, waited, now);
        namespace.counters().origin_latency.record(took);
        count(&namespace.counters().puts);
        // Those who wait have the value even if it does not fit.
        tell_all(waiters, &Told::Refilled(refilled));
        stored.map(|_| entry).map_err(ServiceError::DoesNotFit)
    }

    /// Gives a permit back without a value. With `next` the first in line becomes the holder; without
    /// it the refill has failed for all who wait.
    ///
    /// # Errors
    /// [`ServiceError::Permit`] when it was over already.
    pub fn give_back_permit(
        &self,
        namespace: &Namespace,
        key: &Key,
        number: PermitNumber,
        next: bool,
    ) -> Result<(), ServiceError> {
        let (id, now) = (namespace.id(), self.now());
        let mut guard = self.cache.guard(id, key);
        let (took, holder) = held(guard.view(id, key, number), now);
        let given = guard.give_back(id, key, number, next, now);
        drop(guard);
        let given = given.map_err(ServiceError::Permit)?;
        count(&namespace.counters().origin_errors);
        let waited = match &given {
            GivenBack::Turn(..) => Waited::default(),
            GivenBack::Failed(waiters) => Waited::of(waiters, now),
        };
        let outcome = RefillOutcome::Failed;
        self.refill_ended((namespace, key), holder, took, outcome, waited, now);
        match given {
            GivenBack::Turn(permit, waiter) => self.give_turns(vec![(permit, waiter)]),
            GivenBack::Failed(waiters) => tell_all(waiters, &Told::GivenUp),
        }
        Ok(())
    }

    /// Tells callers that the permit is theirs. One that has gone passes it on at once.
    pub(crate) fn give_turns(&self, turns: Vec<(Permit, Waiter)>) {
        for (permit, waiter) in turns {
            if !waiter.tell(Told::Turn(permit.clone())) {
                self.pass_on(&permit);
            }
        }
    }

    /// Passes a permit that nobody uses on to the next in line, until somebody takes it.
    fn pass_on(&self, permit: &Permit) {
        let mut permit = permit.clone();
        loop {
            let (id, key, now) = (permit.namespace, permit.key.clone(), self.now());
            let given = self.cache.guard(id, &key).give_back(id, &key, permit.number, true, now);
            let Ok(GivenBack::Turn(next, waiter)) = given else { return };
            if waiter.tell(Told::Turn(next.clone())) {
                return;
            }
            permit = next;
        }
    }

    /// What an invalidation voided is told to those who waited for it.
    pub(crate) fn voided(&self, voided: Voided<Waiter>, told: &Told) {
        tell_all(voided.waiters, told);
    }

    /// The live permits of a namespace, oldest first.
    pub fn permits(&self, namespace: &Namespace) -> Vec<PermitView> {
        let of = namespace.id();
        let mut views: Vec<PermitView> = self
            .cache
            .guards()
            .flat_map(|guard| guard.views().filter(|view| view.namespace == of).collect::<Vec<_>>())
            .collect();
        views.sort_by_key(|view| (view.permit.since, view.permit.number));
        views
    }

    /// The latest refills of a namespace, newest first.
    pub fn recent_refills(&self, namespace: &Namespace) -> Vec<RefillRecord> {
        self.cache.trace.of(namespace.id())
    }

    /// Ends the permits and waits of an access that was withdrawn; those next in line may refill.
    pub(crate) fn withdraw_permits(&self, access: AccessId) {
        let (now, mut turns) = (self.now(), Vec::new());
        self.cache.guards().for_each(|mut guard| guard.withdraw(access, now, &mut turns));
        self.give_turns(turns);
    }

    /// Ends permits whose time is over.
    pub(crate) fn lapse_permits(self: &Arc<Self>, now: Timestamp) {
        let (mut refills, mut turns) = (Vec::new(), Vec::new());
        for mut guard in self.cache.guards() {
            let over: Vec<PermitView> =
                guard.views().filter(|view| view.permit.ends_at <= now).collect();
            let lapsed = guard.lapse(now, Duration::from_secs(30));
            refills.extend(lapsed.refills);
            turns.extend(lapsed.turns);
            // Those who waited for a voided permit that ran out are dropped, which tells them.
            for view in over {
                if let HeldBy::Caller(caller) = &view.held_by
                    && let Some(namespace) = self.registry.by_id(view.namespace)
                {
                    let (place, took) = ((&*namespace, &view.key), now.since(view.permit.since));
                    let outcome = RefillOutcome::Lapsed;
                    self.refill_ended(
                        place,
                        &*caller.owner,
                        took,
                        outcome,
                        Default::default(),
                        now,
                    );
                }
            }
        }
        self.give_turns(turns);
        for permit in refills {
            if let Some(namespace) = self.registry.by_id(permit.namespace) {
                self.start_refill(&namespace, permit, None);
            }
        }
    }
}

/// How long a permit has been held, and by whom, unless it is long over.
fn held(view: Option<PermitView>, now: Timestamp) -> (Duration, String) {
    match view {
        Some(view) => (now.since(view.permit.since), view.held_by.to_string()),
        None => (Duration::ZERO, "somebody late".to_owned()),
    }
}

fn check(request: &PermitRequest) -> Result<(), ServiceError> {
    let PermitRequest { hold, wait, owner, .. } = request;
    if !HOLDS.contains(hold) {
        return Err(ServiceError::Invalid(format!(
            "a hold of {} s is out of range: use {} s to {} s",
            hold.as_secs_f64(),
            HOLDS.start().as_secs_f64(),
            HOLDS.end().as_secs()
        )));
    }
    if *wait > LONGEST_WAIT {
        return Err(ServiceError::Invalid(format!(
            "a wait of {} s is out of range: use at most {} s, and ask again",
            wait.as_secs_f64(),
            LONGEST_WAIT.as_secs()
        )));
    }
    if owner.len() > verax_core::guard::lock::LONGEST_OWNER {
        return Err(ServiceError::Invalid("the owner's note is too long: use 200 bytes".into()));
    }
    Ok(())
}
