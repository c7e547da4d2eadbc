//! The table of all locks: their holders and their queues.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::time::Duration;

use super::lease::{
    AccessId, AcquireError, AcquireRequest, FencingToken, Grant, Holder, LeaseEnd, LockCounts,
    LockName, LockNotice, LockOutcome, LockView, NotHeld, QueuedCaller, SessionId, Ticket,
};
use crate::guard::share::{ShareLimits, Shares};
use crate::key::NamespaceId;
use crate::time::Timestamp;

/// Bits of a token that count the leases of an epoch.
const COUNT_BITS: u32 = 32;

/// The most queued callers shown for one lock; all are counted.
const MAX_SHOWN: usize = 100;

/// The most leases and waits that one step ends, so that other callers get the table in between.
const MAX_PER_STEP: usize = 64;

#[derive(Debug)]
struct Lease {
    owner: String,
    token: FencingToken,
    since: Timestamp,
    ends_at: Timestamp,
    session: Option<SessionId>,
    access: Option<AccessId>,
}

#[derive(Debug)]
struct QueuedRequest<W> {
    waiter: W,
    request: AcquireRequest,
    since: Timestamp,
    waits_until: Timestamp,
}

/// A held lock. A free lock takes no memory: nobody waits for it either.
#[derive(Debug)]
struct Lock<W> {
    lease: Lease,
    /// By ticket, which is the order of arrival.
    queue: BTreeMap<Ticket, QueuedRequest<W>>,
    /// When each wait ends.
    wait_ends: BTreeSet<(Timestamp, Ticket)>,
    /// When it must be settled: no later than the first end of its lease or of a wait.
    moment: Timestamp,
}

/// All locks; `W` represents a waiting caller.
#[derive(Debug)]
pub struct LockTable<W> {
    epoch: Option<u32>,
    /// The latest epoch that was ended.
    ended: Option<u32>,
    /// Nothing is granted from this moment on, unless it is extended.
    gives_until: Option<Timestamp>,
    given: u32,
    last_ticket: u64,
    locks: HashMap<LockName, Lock<W>>,
    /// Connections that have not ended.
    sessions: HashSet<SessionId>,
    /// Leases and waits of each namespace.
    pub(super) taken: Shares,
    /// How many wait for a lock.
    queued: usize,
    /// The locks that each session and access holds or waits for, with counts.
    bound: HashMap<EndsWith, BTreeMap<LockName, usize>>,
    /// The locks of each namespace, the longest held first.
    by_token: BTreeMap<(NamespaceId, FencingToken), LockName>,
    /// When each lock must be settled.
    moments: BTreeSet<(Timestamp, LockName)>,
}

impl<W> Lock<W> {
    fn leave(&mut self, ticket: Ticket) -> Option<QueuedRequest<W>> {
        let waiting = self.queue.remove(&ticket)?;
        self.wait_ends.remove(&(waiting.waits_until, ticket));
        Some(waiting)
    }

    /// When it must be settled next.
    fn next_moment(&self) -> Timestamp {
        let first = self.wait_ends.first().map(|(at, _)| *at);
        first.map_or(self.lease.ends_at, |first| first.min(self.lease.ends_at))
    }
}

/// What a lease or a wait ends with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum EndsWith {
    Session(SessionId),
    Access(AccessId),
}

fn ends_with(
    session: Option<SessionId>,
    access: Option<AccessId>,
) -> impl Iterator<Item = EndsWith> {
    session.map(EndsWith::Session).into_iter().chain(access.map(EndsWith::Access))
}

impl Lease {
    fn holder(&self) -> Holder {
        let Self { owner, token, since, ends_at, .. } = self;
        Holder { owner: owner.clone(), token: *token, since: *since, ends_at: *ends_at }
    }
}

impl<W> LockTable<W> {
    /// An empty table within `limits`. It grants nothing until it has an epoch.
    pub fn new(limits: ShareLimits) -> Self {
        Self {
            epoch: None,
            ended: None,
            gives_until: None,
            given: 0,
            last_ticket: 0,
            locks: HashMap::new(),
            sessions: HashSet::new(),
            taken: Shares::new(limits),
            queued: 0,
            bound: HashMap::new(),
            by_token: BTreeMap::new(),
            moments: BTreeSet::new(),
        }
    }

    /// Begins an epoch, which must be larger than every earlier one of any process. A smaller one
    /// has no effect.
    pub fn begin_epoch(&mut self, epoch: u32) {
        if Some(epoch) > self.epoch.max(self.ended) {
            (self.epoch, self.given) = (Some(epoch), 0);
        }
    }

    /// Ends the epoch: nothing is granted until a larger one begins.
    pub fn end_epoch(&mut self) {
        self.ended = self.ended.max(self.epoch.take());
    }

    /// Sets until when locks are granted and renewed; `None` for as long as there is an epoch.
    /// Another node may grant them from then on.
    pub fn give_until(&mut self, moment: Option<Timestamp>) {
        self.gives_until = moment;
    }

    /// Whether locks are granted and renewed.
    pub fn gives(&self, now: Timestamp) -> bool {
        self.gives_until.is_none_or(|until| now < until)
    }

    /// The current epoch.
    pub fn epoch(&self) -> Option<u32> {
        self.epoch
    }

    /// Whether a new epoch is needed soon: there is none, or most of its tokens are used.
    pub fn needs_epoch(&self) -> bool {
        self.epoch.is_none() || self.given > u32::MAX - (u32::MAX >> 4)
    }

    fn next_token(&mut self, now: Timestamp) -> Result<FencingToken, AcquireError> {
        let epoch = self.epoch.ok_or(AcquireError::NoEpoch)?;
        if !self.gives(now) {
            return Err(AcquireError::Unconfirmed);
        }
        let given = self.given.checked_add(1).ok_or(AcquireError::EpochUsedUp)?;
        self.given = given;
        Ok(FencingToken((u64::from(epoch) << COUNT_BITS) | u64::from(given)))
    }

    /// A lease or a wait begins.
    fn count(&mut self, name: &LockName, session: Option<SessionId>, access: Option<AccessId>) {
        self.taken.take(name.0);
        for bond in ends_with(session, access) {
            let names = self.bound.entry(bond).or_default();
            *names.entry(name.clone()).or_default() += 1;
        }
    }

    /// A lease or a wait has ended.
    fn left(&mut self, name: &LockName, session: Option<SessionId>, access: Option<AccessId>) {
        self.taken.release(name.0);
        for bond in ends_with(session, access) {
            let Some(names) = self.bound.get_mut(&bond) else { continue };
            if let Some(times) = names.get_mut(name) {
                *times -= 1;
                if *times == 0 {
                    names.remove(name);
                }
            }
            if names.is_empty() {
                self.bound.remove(&bond);
            }
        }
    }

    /// Counts the end of a wait that has left its queue.
    fn left_queue(&mut self, name: &LockName, waiting: &QueuedRequest<W>) {
        self.queued -= 1;
        self.left(name, waiting.request.session, waiting.request.access);
    }

    /// Requests a lock. Appends to `notices` what others must learn because a lease had ended.
    ///
    /// # Errors
    /// [`AcquireError`]; the queue stays as it was.
    pub fn acquire(
        &mut self,
        name: &LockName,
        request: AcquireRequest,
        waiter: W,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> Result<LockOutcome<W>, AcquireError> {
        // The session may have ended meanwhile; a lease would outlive it.
        if request.session.is_some_and(|session| !self.sessions.contains(&session)) {
            return Err(AcquireError::Disconnected);
        }
        self.settle(name, now, notices);
        let waits = !request.wait.is_zero();
        if let Some(lock) = self.locks.get(name)
            && !waits
        {
            return Ok(LockOutcome::HeldByOther(lock.lease.holder(), waiter));
        }
        if !self.taken.has_room(name.0) {
            return Err(AcquireError::Full(self.taken.of(name.0)));
        }
        if let Some(lock) = self.locks.get_mut(name) {
            self.last_ticket += 1;
            let (ticket, waits_until) = (Ticket(self.last_ticket), now + request.wait);
            let (session, access) = (request.session, request.access);
            lock.queue.insert(ticket, QueuedRequest { waiter, request, since: now, waits_until });
            lock.wait_ends.insert((waits_until, ticket));
            if waits_until < lock.moment {
                self.schedule(name, waits_until);
            }
            self.queued += 1;
            self.count(name, session, access);
            return Ok(LockOutcome::Queued(ticket));
        }
        let token = self.next_token(now)?;
        let ends_at = now + request.lease;
        let AcquireRequest { owner, session, access, .. } = request;
        let lease = Lease { owner, token, since: now, ends_at, session, access };
        let (queue, wait_ends) = (BTreeMap::new(), BTreeSet::new());
        self.locks.insert(name.clone(), Lock { lease, queue, wait_ends, moment: ends_at });
        self.by_token.insert((name.0, token), name.clone());
        self.moments.insert((ends_at, name.clone()));
        self.count(name, session, access);
        Ok(LockOutcome::Granted(Grant { name: name.clone(), token, ends_at }, waiter))
    }

    /// Sets when a lock must be settled.
    fn schedule(&mut self, name: &LockName, moment: Timestamp) {
        let Some(lock) = self.locks.get_mut(name) else { return };
        let before = std::mem::replace(&mut lock.moment, moment);
        let mut noted = (before, name.clone());
        self.moments.remove(&noted);
        noted.0 = moment;
        self.moments.insert(noted);
    }

    /// Removes a lock with its queue.
    fn remove(&mut self, name: &LockName) -> Option<Lock<W>> {
        let lock = self.locks.remove(name)?;
        self.moments.remove(&(lock.moment, name.clone()));
        self.by_token.remove(&(name.0, lock.lease.token));
        self.left(name, lock.lease.session, lock.lease.access);
        for waiting in lock.queue.values() {
            self.left_queue(name, waiting);
        }
        Some(lock)
    }

    /// Ends the lease of a lock and gives it to the first in the queue.
    fn pass_on(
        &mut self,
        name: &LockName,
        by: LeaseEnd,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) {
        if let Some(lock) = self.locks.get(name) {
            notices.push(LockNotice::Ended(name.clone(), lock.lease.holder(), by));
        }
        if self.locks.get(name).is_none_or(|lock| lock.queue.is_empty()) {
            self.remove(name);
            return;
        }
        let Ok(token) = self.next_token(now) else {
            // No token is left to grant. The queued callers time out, and the lock is free once
            // locks are granted again.
            let Some(lock) = self.remove(name) else { return };
            let holder = lock.lease.holder();
            let gone = lock.queue.into_values();
            notices.extend(gone.map(|w| LockNotice::TimedOut(w.waiter, holder.clone())));
            return;
        };
        let Some(lock) = self.locks.get_mut(name) else { return };
        let Some(first) = lock.queue.keys().next().copied() else { return };
        let Some(next) = lock.leave(first) else { return };
        let ends_at = now + next.request.lease;
        let AcquireRequest { owner, session, access, .. } = next.request;
        let lease = Lease { owner, token, since: now, ends_at, session, access };
        let before = std::mem::replace(&mut lock.lease, lease);
        let moment = lock.next_moment();
        // The old holder is gone; the first queued caller holds the lock.
        self.queued -= 1;
        self.left(name, before.session, before.access);
        self.by_token.remove(&(name.0, before.token));
        self.by_token.insert((name.0, token), name.clone());
        self.schedule(name, moment);
        notices
            .push(LockNotice::Granted(next.waiter, Grant { name: name.clone(), token, ends_at }));
    }

    /// Ends what is over by `now` for one lock: waits that ended before the lease did, then the
    /// lease, which passes to the first caller still queued at its end. One step ends a bounded
    /// number; the lock stays due for the rest.
    fn settle(&mut self, name: &LockName, now: Timestamp, notices: &mut Vec<LockNotice<W>>) {
        let most = notices.len() + MAX_PER_STEP;
        // After a lease has passed on, further waits may be over.
        while notices.len() < most
            && let Some(lock) = self.locks.get_mut(name).filter(|lock| lock.moment <= now)
        {
            let over = lock.lease.ends_at <= now;
            let until = if over { lock.lease.ends_at } else { now };
            let holder = lock.lease.holder();
            let gone = lock.wait_ends.range(..=(until, Ticket(u64::MAX)));
            // In order of arrival, whenever each of them timed out.
            let gone: BTreeSet<Ticket> =
                gone.take(most - notices.len()).map(|(_, ticket)| *ticket).collect();
            let all = gone.len() < most - notices.len();
            let gone: Vec<QueuedRequest<W>> =
                gone.into_iter().filter_map(|ticket| lock.leave(ticket)).collect();
            for waiting in gone {
                self.left_queue(name, &waiting);
                notices.push(LockNotice::TimedOut(waiting.waiter, holder.clone()));
            }
            if over && all {
                self.pass_on(name, LeaseEnd::Time, now, notices);
            }
            if let Some(lock) = self.locks.get(name) {
                let moment = lock.next_moment();
                self.schedule(name, moment);
            }
        }
    }

    /// Ends leases and waits that are over, those of one step. Returns whether there are more.
    pub fn advance(&mut self, now: Timestamp, notices: &mut Vec<LockNotice<W>>) -> bool {
        let most = notices.len() + MAX_PER_STEP;
        while notices.len() < most {
            match self.moments.first() {
                Some((at, name)) if *at <= now => {
                    let name = name.clone();
                    self.settle(&name, now, notices);
                }
                _ => return false,
            }
        }
        self.next_moment().is_some_and(|at| at <= now)
    }

    /// When [`advance`](Self::advance) must be called next.
    pub fn next_moment(&self) -> Option<Timestamp> {
        self.moments.first().map(|(at, _)| *at)
    }

    fn held(
        &mut self,
        name: &LockName,
        token: FencingToken,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> Result<&mut Lease, NotHeld> {
        self.settle(name, now, notices);
        match self.locks.get_mut(name) {
            None => Err(NotHeld::Free { token }),
            Some(lock) if lock.lease.token != token => Err(NotHeld::Other {
                token,
                owner: lock.lease.owner.clone(),
                now: lock.lease.token,
            }),
            // It has ended, and passes on once the callers that timed out earlier have left the
            // queue.
            Some(lock) if lock.lease.ends_at <= now => Err(NotHeld::Free { token }),
            Some(lock) => Ok(&mut lock.lease),
        }
    }

    /// Extends or shortens a lease to `lease` from now; returns its new end.
    ///
    /// # Errors
    /// [`NotHeld`] when the lease has ended, or locks are not [granted](Self::gives) at the moment.
    pub fn renew(
        &mut self,
        name: &LockName,
        token: FencingToken,
        lease: Duration,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> Result<Timestamp, NotHeld> {
        if !self.gives(now) {
            return Err(NotHeld::Unconfirmed { token });
        }
        let held = self.held(name, token, now, notices)?;
        let ends_at = now + lease;
        held.ends_at = ends_at;
        if self.locks.get(name).is_some_and(|lock| ends_at < lock.moment) {
            self.schedule(name, ends_at);
        }
        Ok(ends_at)
    }

    /// Ends a lease; the lock passes to the first queued caller.
    ///
    /// # Errors
    /// [`NotHeld`] when it is over already.
    pub fn release(
        &mut self,
        name: &LockName,
        token: FencingToken,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> Result<(), NotHeld> {
        self.held(name, token, now, notices)?;
        self.pass_on(name, LeaseEnd::Release, now, notices);
        Ok(())
    }

    /// Ends the current lease, whoever holds it; returns its holder.
    pub fn force_release(
        &mut self,
        name: &LockName,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> Option<Holder> {
        self.settle(name, now, notices);
        let holder = self.locks.get(name)?.lease.holder();
        self.pass_on(name, LeaseEnd::Force, now, notices);
        Some(holder)
    }

    /// Removes a caller from the queue; returns whether it was there.
    pub fn leave(&mut self, name: &LockName, ticket: Ticket) -> bool {
        let left = self.locks.get_mut(name).and_then(|lock| lock.leave(ticket));
        if let Some(waiting) = &left {
            self.left_queue(name, waiting);
        }
        left.is_some()
    }

    /// Registers a connection that leases can end with.
    pub fn connect(&mut self, session: SessionId) {
        self.sessions.insert(session);
    }

    /// Ends the leases that end with a connection, and its waits for such leases: those of one
    /// step. Returns whether there are more, for which the caller must call again. The waiting
    /// callers are not notified; they must notice that the connection is gone.
    pub fn disconnect(
        &mut self,
        session: SessionId,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> bool {
        self.sessions.remove(&session);
        self.end_bound(LeaseEnd::Disconnection, now, notices, EndsWith::Session(session))
    }

    /// Ends the leases and waits of a withdrawn access: those of one step. Returns whether there
    /// are more, for which the caller must call again. The waiting callers are not notified; they
    /// must notice that the access is withdrawn.
    pub fn withdraw(
        &mut self,
        access: AccessId,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
    ) -> bool {
        self.end_bound(LeaseEnd::Withdrawal, now, notices, EndsWith::Access(access))
    }

    fn end_bound(
        &mut self,
        by: LeaseEnd,
        now: Timestamp,
        notices: &mut Vec<LockNotice<W>>,
        bond: EndsWith,
    ) -> bool {
        let held = |held: &Lease| ends_with(held.session, held.access).any(|own| own == bond);
        let waits = |w: &QueuedRequest<W>| {
            ends_with(w.request.session, w.request.access).any(|own| own == bond)
        };
        let mut ended = 0;
        while let Some(name) = self.bound.get(&bond).and_then(|names| names.keys().next()).cloned()
        {
            if ended >= MAX_PER_STEP {
                return true;
            }
            let before = notices.len();
            self.settle(&name, now, notices);
            // What had ended by itself counts towards the step.
            ended += 1 + notices.len() - before;
            let Some(lock) = self.locks.get_mut(&name) else { continue };
            let gone: Vec<Ticket> = lock
                .queue
                .iter()
                .filter(|(_, w)| waits(w))
                .map(|(t, _)| *t)
                .take(MAX_PER_STEP)
                .collect();
            ended += gone.len();
            let all = gone.len() < MAX_PER_STEP;
            let gone: Vec<QueuedRequest<W>> =
                gone.into_iter().filter_map(|ticket| lock.leave(ticket)).collect();
            // The lock does not pass to a caller that leaves for the same reason.
            let holds = all && held(&lock.lease);
            gone.iter().for_each(|waiting| self.left_queue(&name, waiting));
            if holds {
                self.pass_on(&name, by, now, notices);
            }
        }
        false
    }

    /// Ends the leases and waits of a deleted namespace, those of one step; returns whether there
    /// are more, for which the caller must call again. Holders learn of it when they renew.
    pub fn end_namespace(&mut self, namespace: NamespaceId) -> bool {
        let mut ended = 0;
        loop {
            let name = match self.locks_of(namespace).next() {
                None => return false,
                Some(_) if ended >= MAX_PER_STEP => return true,
                Some((_, name)) => name.clone(),
            };
            let Some(lock) = self.locks.get_mut(&name) else { return false };
            let first: Vec<Ticket> = lock.queue.keys().take(MAX_PER_STEP).copied().collect();
            ended += 1 + first.len();
            let gone: Vec<QueuedRequest<W>> =
                first.into_iter().filter_map(|ticket| lock.leave(ticket)).collect();
            let empty = lock.queue.is_empty();
            gone.iter().for_each(|waiting| self.left_queue(&name, waiting));
            if empty {
                self.remove(&name);
            }
        }
    }

    /// Ends all leases and waits; holders learn of it when they renew. The returned value should be
    /// dropped outside the table's lock.
    pub fn end_all(&mut self) -> Self {
        let epoch = (self.epoch, self.ended, self.gives_until, self.given, self.last_ticket);
        let mut gone = std::mem::replace(self, Self::new(self.taken.limits()));
        (self.epoch, self.ended, self.gives_until, self.given, self.last_ticket) = epoch;
        self.sessions = std::mem::take(&mut gone.sessions);
        gone
    }

    /// The held locks of a namespace, longest held first.
    fn locks_of(&self, namespace: NamespaceId) -> impl Iterator<Item = (FencingToken, &LockName)> {
        let range = (namespace, FencingToken(0))..=(namespace, FencingToken(u64::MAX));
        self.by_token.range(range).map(|((_, token), name)| (*token, name))
    }

    /// The state of a lock; `None` when it is free.
    pub fn peek(&self, name: &LockName, now: Timestamp) -> Option<LockView> {
        let lock = self.locks.get(name)?;
        let queued = |waiting: &QueuedRequest<W>| QueuedCaller {
            owner: waiting.request.owner.clone(),
            since: waiting.since,
            waits_until: waiting.waits_until,
        };
        let over = lock.wait_ends.range(..=(now, Ticket(u64::MAX))).count();
        let waiting = lock.queue.len() - over;
        let queue = lock.queue.values().filter(|w| now < w.waits_until).map(queued);
        // A lease that is over and has not passed on yet is still shown while callers are queued.
        (now < lock.lease.ends_at || waiting > 0).then(|| LockView {
            name: name.clone(),
            holder: lock.lease.holder(),
            queue: queue.take(MAX_SHOWN).collect(),
            queued: waiting,
        })
    }

    /// The namespaces with held locks.
    pub fn namespaces(&self) -> Vec<NamespaceId> {
        self.taken.namespaces().collect()
    }

    /// The tokens and names of a namespace's held locks, longest held first, at most `most` of
    /// them.
    pub fn longest_held(
        &self,
        namespace: NamespaceId,
        most: usize,
    ) -> Vec<(FencingToken, LockName)> {
        let locks = self.locks_of(namespace).take(most);
        locks.map(|(token, name)| (token, name.clone())).collect()
    }

    /// The number of held locks and of queued callers.
    pub fn counts(&self) -> LockCounts {
        LockCounts { held: self.locks.len(), queued: self.queued }
    }
}
