//! All locks: who holds them, and who waits in which order.

use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::time::Duration;

use super::{
    AccessId, Claim, ClaimError, Claimed, EndedBy, FencingToken, Grant, Holder, InLine, LockName,
    LockView, NotHeld, SessionId, Ticket, Told,
};
use crate::key::NamespaceId;
use crate::time::Timestamp;

/// Bits of a token that count the holds of an epoch.
const COUNT_BITS: u32 = 32;

#[derive(Debug)]
struct Held {
    owner: String,
    token: FencingToken,
    since: Timestamp,
    ends_at: Timestamp,
    session: Option<SessionId>,
    access: Option<AccessId>,
}

#[derive(Debug)]
struct Waiting<W> {
    ticket: Ticket,
    waiter: W,
    claim: Claim,
    since: Timestamp,
    gives_up_at: Timestamp,
}

/// A lock that is held. One that nobody holds is not kept, since then nobody waits for it either.
#[derive(Debug)]
struct Lock<W> {
    held: Held,
    line: VecDeque<Waiting<W>>,
    /// When it must be looked at: never later than the hold or a wait in its line ends.
    moment: Timestamp,
}

/// All locks, with whatever represents a waiting caller as `W`.
#[derive(Debug)]
pub struct LockTable<W> {
    epoch: Option<u32>,
    /// The latest one that was ended.
    ended: Option<u32>,
    /// Nothing is given from this moment on, unless it is put off.
    gives_until: Option<Timestamp>,
    given: u32,
    last_ticket: u64,
    locks: HashMap<LockName, Lock<W>>,
    /// Connections that have not ended.
    sessions: HashSet<SessionId>,
    /// Holds and waits of each namespace.
    pub(super) taken: HashMap<NamespaceId, usize>,
    most: usize,
    /// The moment of every lock.
    moments: BTreeSet<(Timestamp, LockName)>,
}

impl Held {
    fn shown(&self) -> Holder {
        let Self { owner, token, since, ends_at, .. } = self;
        Holder { owner: owner.clone(), token: *token, since: *since, ends_at: *ends_at }
    }
}

impl<W> LockTable<W> {
    /// An empty table in which each namespace has at most `most` holds and waits. It gives nothing
    /// until it has an epoch.
    pub fn new(most: usize) -> Self {
        Self {
            epoch: None,
            ended: None,
            gives_until: None,
            given: 0,
            last_ticket: 0,
            locks: HashMap::new(),
            sessions: HashSet::new(),
            taken: HashMap::new(),
            most,
            moments: BTreeSet::new(),
        }
    }

    /// Begins an epoch, which must be larger than every one before, by whatever process it was used.
    /// Smaller ones than the current one change nothing.
    pub fn begin_epoch(&mut self, epoch: u32) {
        if Some(epoch) > self.epoch.max(self.ended) {
            (self.epoch, self.given) = (Some(epoch), 0);
        }
    }

    /// Ends the epoch: nothing is given until another begins, which must be larger.
    pub fn end_epoch(&mut self) {
        self.ended = self.ended.max(self.epoch.take());
    }

    /// Sets until when locks are given and renewed; `None` for as long as there is an epoch. Somebody
    /// else may give them from then on.
    pub fn give_until(&mut self, moment: Option<Timestamp>) {
        self.gives_until = moment;
    }

    /// Whether locks are given and renewed.
    pub fn gives(&self, now: Timestamp) -> bool {
        self.gives_until.is_none_or(|until| now < until)
    }

    /// The epoch of the tokens given now.
    pub fn epoch(&self) -> Option<u32> {
        self.epoch
    }

    /// Whether a new epoch is needed soon: there is none, or most of it is used up.
    pub fn needs_epoch(&self) -> bool {
        self.epoch.is_none() || self.given > u32::MAX - (u32::MAX >> 4)
    }

    fn next_token(&mut self, now: Timestamp) -> Result<FencingToken, ClaimError> {
        let epoch = self.epoch.ok_or(ClaimError::NoEpoch)?;
        if !self.gives(now) {
            return Err(ClaimError::Unconfirmed);
        }
        let given = self.given.checked_add(1).ok_or(ClaimError::EpochUsedUp)?;
        self.given = given;
        Ok(FencingToken((u64::from(epoch) << COUNT_BITS) | u64::from(given)))
    }

    fn left(&mut self, namespace: NamespaceId, how_many: usize) {
        if let Some(taken) = self.taken.get_mut(&namespace) {
            *taken -= how_many;
            if *taken == 0 {
                self.taken.remove(&namespace);
            }
        }
    }

    /// Asks for a lock. What must be told to others, because a hold had ended meanwhile, is added to
    /// `told`.
    ///
    /// # Errors
    /// [`ClaimError`]; the line stays as it was.
    pub fn claim(
        &mut self,
        name: &LockName,
        claim: Claim,
        waiter: W,
        now: Timestamp,
        told: &mut Vec<Told<W>>,
    ) -> Result<Claimed<W>, ClaimError> {
        // It may have ended on the way here; what it holds would outlive it.
        if claim.session.is_some_and(|session| !self.sessions.contains(&session)) {
            return Err(ClaimError::Disconnected);
        }
        self.settle(name, now, told);
        let waits = !claim.wait.is_zero();
        if let Some(lock) = self.locks.get(name)
            && !waits
        {
            return Ok(Claimed::Held(lock.held.shown(), waiter));
        }
        if self.taken.get(&name.0).copied().unwrap_or(0) >= self.most {
            return Err(ClaimError::Full(self.most));
        }
        if let Some(lock) = self.locks.get_mut(name) {
            self.last_ticket += 1;
            let (ticket, gives_up_at) = (Ticket(self.last_ticket), now + claim.wait);
            lock.line.push_back(Waiting { ticket, waiter, claim, since: now, gives_up_at });
            if gives_up_at < lock.moment {
                self.look_at(name, gives_up_at);
            }
            *self.taken.entry(name.0).or_default() += 1;
            return Ok(Claimed::Waiting(ticket));
        }
        let token = self.next_token(now)?;
        let ends_at = now + claim.hold;
        let Claim { owner, session, access, .. } = claim;
        let held = Held { owner, token, since: now, ends_at, session, access };
        let lock = Lock { held, line: VecDeque::new(), moment: ends_at };
        self.locks.insert(name.clone(), lock);
        self.moments.insert((ends_at, name.clone()));
        *self.taken.entry(name.0).or_default() += 1;
        Ok(Claimed::Granted(Grant { name: name.clone(), token, ends_at }, waiter))
    }

    /// Sets the moment of a lock.
    fn look_at(&mut self, name: &LockName, moment: Timestamp) {
        let Some(lock) = self.locks.get_mut(name) else { return };
        let before = std::mem::replace(&mut lock.moment, moment);
        let mut noted = (before, name.clone());
        self.moments.remove(&noted);
        noted.0 = moment;
        self.moments.insert(noted);
    }

    /// Takes a lock out, with everybody in its line.
    fn remove(&mut self, name: &LockName) -> Option<Lock<W>> {
        let lock = self.locks.remove(name)?;
        self.moments.remove(&(lock.moment, name.clone()));
        self.left(name.0, 1 + lock.line.len());
        Some(lock)
    }

    /// Ends the hold of a lock and gives it to the first in line.
    fn pass_on(&mut self, name: &LockName, by: EndedBy, now: Timestamp, told: &mut Vec<Told<W>>) {
        if let Some(lock) = self.locks.get(name) {
            told.push(Told::Ended(name.clone(), lock.held.shown(), by));
        }
        if self.locks.get(name).is_none_or(|lock| lock.line.is_empty()) {
            self.remove(name);
            return;
        }
        let Ok(token) = self.next_token(now) else {
            // Nobody can be given the lock. Those in line give up, and it is free for whoever asks
            // once locks are given again.
            let Some(lock) = self.remove(name) else { return };
            let holder = lock.held.shown();
            told.extend(lock.line.into_iter().map(|w| Told::GaveUp(w.waiter, holder.clone())));
            return;
        };
        let Some(lock) = self.locks.get_mut(name) else { return };
        let Some(next) = lock.line.pop_front() else { return };
        let ends_at = now + next.claim.hold;
        let Claim { owner, session, access, .. } = next.claim;
        lock.held = Held { owner, token, since: now, ends_at, session, access };
        let moment = ends_at.min(lock.moment);
        // The one that held it is gone; the one that was in line holds it.
        self.left(name.0, 1);
        self.look_at(name, moment);
        told.push(Told::Granted(next.waiter, Grant { name: name.clone(), token, ends_at }));
    }

    /// Ends what is over by `now` for one lock: waits that ended before the hold did, then the hold,
    /// which goes to whoever was still in line when it ended.
    fn settle(&mut self, name: &LockName, now: Timestamp, told: &mut Vec<Told<W>>) {
        // After a hold was passed on, further waits may be over.
        while let Some(lock) = self.locks.get_mut(name).filter(|lock| lock.moment <= now) {
            let over = lock.held.ends_at <= now;
            let until = if over { lock.held.ends_at } else { now };
            let holder = lock.held.shown();
            let (gone, line): (VecDeque<_>, VecDeque<_>) =
                std::mem::take(&mut lock.line).into_iter().partition(|w| w.gives_up_at <= until);
            lock.line = line;
            self.left(name.0, gone.len());
            told.extend(gone.into_iter().map(|w| Told::GaveUp(w.waiter, holder.clone())));
            if over {
                self.pass_on(name, EndedBy::Time, now, told);
            }
            if let Some(lock) = self.locks.get(name) {
                let waits = lock.line.iter().map(|waiting| waiting.gives_up_at);
                let moment = waits.chain([lock.held.ends_at]).min().unwrap_or(lock.held.ends_at);
                self.look_at(name, moment);
            }
        }
    }

    /// Lets time pass: ends holds and waits that are over.
    pub fn advance(&mut self, now: Timestamp, told: &mut Vec<Told<W>>) {
        let due: Vec<LockName> =
            self.moments.iter().take_while(|(at, _)| *at <= now).map(|(_, n)| n.clone()).collect();
        due.iter().for_each(|name| self.settle(name, now, told));
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
        told: &mut Vec<Told<W>>,
    ) -> Result<&mut Held, NotHeld> {
        self.settle(name, now, told);
        match self.locks.get_mut(name) {
            None => Err(NotHeld::Free { token }),
            Some(lock) if lock.held.token != token => {
                Err(NotHeld::Other { token, owner: lock.held.owner.clone(), now: lock.held.token })
            }
            Some(lock) => Ok(&mut lock.held),
        }
    }

    /// Makes a hold last for `hold` from now on, longer or shorter; returns when it ends then.
    ///
    /// # Errors
    /// [`NotHeld`] when the hold is over, or locks are not [given](Self::gives) at the moment.
    pub fn renew(
        &mut self,
        name: &LockName,
        token: FencingToken,
        hold: Duration,
        now: Timestamp,
        told: &mut Vec<Told<W>>,
    ) -> Result<Timestamp, NotHeld> {
        if !self.gives(now) {
            return Err(NotHeld::Unconfirmed { token });
        }
        let held = self.held(name, token, now, told)?;
        let ends_at = now + hold;
        held.ends_at = ends_at;
        if self.locks.get(name).is_some_and(|lock| ends_at < lock.moment) {
            self.look_at(name, ends_at);
        }
        Ok(ends_at)
    }

    /// Ends a hold; the first in line has the lock then.
    ///
    /// # Errors
    /// [`NotHeld`] when it is over already.
    pub fn release(
        &mut self,
        name: &LockName,
        token: FencingToken,
        now: Timestamp,
        told: &mut Vec<Told<W>>,
    ) -> Result<(), NotHeld> {
        self.held(name, token, now, told)?;
        self.pass_on(name, EndedBy::Release, now, told);
        Ok(())
    }

    /// Ends the hold that there is, whoever has it; returns who had it.
    pub fn force_release(
        &mut self,
        name: &LockName,
        now: Timestamp,
        told: &mut Vec<Told<W>>,
    ) -> Option<Holder> {
        self.settle(name, now, told);
        let holder = self.locks.get(name)?.held.shown();
        self.pass_on(name, EndedBy::Force, now, told);
        Some(holder)
    }

    /// Takes a caller out of the line; returns whether it was still in it.
    pub fn leave(&mut self, name: &LockName, ticket: Ticket) -> bool {
        let Some(lock) = self.locks.get_mut(name) else { return false };
        let before = lock.line.len();
        lock.line.retain(|waiting| waiting.ticket != ticket);
        let left = before - lock.line.len();
        self.left(name.0, left);
        left > 0
    }

    /// A connection begins, with which holds may end.
    pub fn connect(&mut self, session: SessionId) {
        self.sessions.insert(session);
    }

    /// Ends the holds that end with a connection, and its waits for such holds. Callers of waits must
    /// know by themselves that the connection is gone: they are told nothing.
    pub fn disconnect(&mut self, session: SessionId, now: Timestamp, told: &mut Vec<Told<W>>) {
        self.sessions.remove(&session);
        self.end_where(EndedBy::Disconnection, now, told, |of, _| of == Some(session));
    }

    /// Ends the holds and waits that were asked for with an access which is withdrawn. Callers of
    /// waits must know by themselves that it is: they are told nothing.
    pub fn withdraw(&mut self, access: AccessId, now: Timestamp, told: &mut Vec<Told<W>>) {
        self.end_where(EndedBy::Withdrawal, now, told, |_, of| of == Some(access));
    }

    fn end_where(
        &mut self,
        by: EndedBy,
        now: Timestamp,
        told: &mut Vec<Told<W>>,
        ends: impl Fn(Option<SessionId>, Option<AccessId>) -> bool,
    ) {
        let held = |lock: &Lock<W>| ends(lock.held.session, lock.held.access);
        let waits = |waiting: &Waiting<W>| ends(waiting.claim.session, waiting.claim.access);
        let concerns = |lock: &Lock<W>| held(lock) || lock.line.iter().any(waits);
        let by_hold = |(name, lock): (&LockName, &Lock<W>)| (lock.held.token, name.clone());
        let mut names: Vec<(FencingToken, LockName)> =
            self.locks.iter().filter(|(_, lock)| concerns(lock)).map(by_hold).collect();
        // In the order of their holds, so that tokens are given in an order that can be foretold.
        names.sort_unstable_by_key(|(held, _)| *held);
        for (_, name) in names {
            self.settle(&name, now, told);
            let Some(lock) = self.locks.get_mut(&name) else { continue };
            let before = lock.line.len();
            lock.line.retain(|waiting| !waits(waiting));
            let gone = before - lock.line.len();
            let holds = held(lock);
            self.left(name.0, gone);
            if holds {
                self.pass_on(&name, by, now, told);
            }
        }
    }

    /// Ends all holds and waits of a namespace, which is gone: holders learn of it when they renew.
    pub fn end_namespace(&mut self, namespace: NamespaceId) {
        self.locks.retain(|(of, _), _| *of != namespace);
        self.moments.retain(|(_, (of, _))| *of != namespace);
        self.taken.remove(&namespace);
    }

    /// Ends all holds and waits: holders learn of it when they renew.
    pub fn end_all(&mut self) {
        self.locks.clear();
        self.moments.clear();
        self.taken.clear();
    }

    /// A lock as it stands, without touching it; `None` when nobody holds it.
    pub fn look(&self, name: &LockName, now: Timestamp) -> Option<LockView> {
        let lock = self.locks.get(name)?;
        let in_line = |waiting: &Waiting<W>| InLine {
            owner: waiting.claim.owner.clone(),
            since: waiting.since,
            gives_up_at: waiting.gives_up_at,
        };
        let line: Vec<InLine> =
            lock.line.iter().filter(|w| now < w.gives_up_at).map(in_line).collect();
        // One that is over and was not passed on yet is still shown while somebody is in line.
        (now < lock.held.ends_at || !line.is_empty()).then(|| LockView {
            name: name.clone(),
            holder: lock.held.shown(),
            line,
        })
    }

    /// All locks that are held, by name.
    pub fn views(&self, now: Timestamp) -> Vec<LockView> {
        let mut views: Vec<_> = self.locks.keys().filter_map(|name| self.look(name, now)).collect();
        views.sort_by(|a, b| a.name.cmp(&b.name));
        views
    }

    /// How many locks are held, and how many callers are in line.
    pub fn count(&self) -> (usize, usize) {
        (self.locks.len(), self.locks.values().map(|lock| lock.line.len()).sum())
    }
}
