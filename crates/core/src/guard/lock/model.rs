//! Locks by the plain reading of the rules, step by step beside the table: what the table says must
//! be what the rules say.

use std::collections::{BTreeMap, HashSet};
use std::time::Duration;

use proptest::prelude::*;

use super::tests::{at, counted, name, request};
use super::{FencingToken, LockName, LockNotice, LockOutcome, LockTable, SessionId, Ticket};
use crate::guard::ShareLimits;

/// One step of a random schedule. Grants and waits are picked by number.
#[derive(Debug, Clone)]
pub(super) enum Step {
    Acquire(Acquire),
    Renew { which: usize, lease: u8 },
    Release(usize),
    Force(u8),
    Leave(usize),
    Disconnect(u8),
    Advance,
    Pass(u8),
    Epoch,
}

/// A request for one of three locks, of none or one of three sessions.
#[derive(Debug, Clone, Copy)]
pub(super) struct Acquire {
    lock: u8,
    lease: u8,
    wait: u8,
    session: Option<u8>,
}

impl Step {
    pub(super) fn any() -> impl Strategy<Value = Self> {
        let wait = prop_oneof![1 => Just(0u8), 4 => 1..90u8];
        let session = prop::option::of(0..3u8);
        let acquire = (0..3u8, 1..60u8, wait, session).prop_map(|(lock, lease, wait, session)| {
            Step::Acquire(Acquire { lock, lease, wait, session })
        });
        prop_oneof![
            6 => acquire,
            2 => (0..12usize, 1..60u8).prop_map(|(which, lease)| Step::Renew { which, lease }),
            3 => (0..12usize).prop_map(Step::Release),
            1 => (0..3u8).prop_map(Step::Force),
            2 => (0..12usize).prop_map(Step::Leave),
            1 => (0..3u8).prop_map(Step::Disconnect),
            2 => Just(Step::Advance),
            4 => (0..50u8).prop_map(Step::Pass),
            1 => Just(Step::Epoch),
        ]
    }
}

/// The caller that holds a lock.
#[derive(Debug, Clone, Copy)]
struct Holder {
    caller: u32,
    ends: u64,
    session: Option<u8>,
}

/// A caller in the queue of a lock.
#[derive(Debug, Clone, Copy)]
struct Queued {
    caller: u32,
    lease: u64,
    times_out: u64,
    session: Option<u8>,
}

/// What a caller learned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Notice {
    caller: u32,
    news: News,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum News {
    Granted { ends: u64 },
    TimedOut,
}

/// One lock: a holder and a queue.
#[derive(Debug, Default, Clone)]
struct Lock {
    holder: Option<Holder>,
    queue: Vec<Queued>,
}

impl Lock {
    /// Grants the lock to the first queued caller.
    fn pass_on(&mut self, now: u64, notices: &mut Vec<Notice>) {
        self.holder = None;
        if !self.queue.is_empty() {
            let Queued { caller, lease, session, .. } = self.queue.remove(0);
            let ends = now + lease;
            self.holder = Some(Holder { caller, ends, session });
            notices.push(Notice { caller, news: News::Granted { ends } });
        }
    }

    /// Ends the lease and the waits that are over, one after the other.
    fn settle(&mut self, now: u64, notices: &mut Vec<Notice>) {
        let Some(Holder { ends, .. }) = self.holder else { return };
        if ends > now && !self.queue.iter().any(|queued| queued.times_out <= now) {
            return;
        }
        let until = ends.min(now);
        self.queue.retain(|queued| {
            let stays = queued.times_out > until;
            if !stays {
                notices.push(Notice { caller: queued.caller, news: News::TimedOut });
            }
            stays
        });
        if ends <= now {
            self.pass_on(now, notices);
        }
        self.settle(now, notices);
    }

    fn is_held_by_session(&self, session: u8) -> bool {
        self.holder.is_some_and(|holder| holder.session == Some(session))
    }
}

/// A lease that a caller was granted.
#[derive(Debug, Clone, Copy)]
struct Granted {
    caller: u32,
    lock: u8,
    token: FencingToken,
}

/// A wait that a caller began.
#[derive(Debug, Clone, Copy)]
struct Wait {
    caller: u32,
    lock: u8,
    ticket: Ticket,
}

/// The table and the model of it, at one time.
#[derive(Debug)]
pub(super) struct Beside {
    table: LockTable<u32>,
    locks: BTreeMap<u8, Lock>,
    epoch: u32,
    now: u64,
    callers: u32,
    granted: Vec<Granted>,
    waits: Vec<Wait>,
    last_token: FencingToken,
    /// Callers that were notified, or left.
    answered: HashSet<u32>,
    /// What the table and the model said in the current step.
    table_notices: Vec<LockNotice<u32>>,
    model_notices: Vec<Notice>,
}

fn lock_name(lock: u8) -> LockName {
    name(&lock.to_string())
}

fn session_id(session: u8) -> SessionId {
    SessionId(session.into())
}

impl Beside {
    pub(super) fn new() -> Self {
        let mut table = LockTable::new(ShareLimits::each(1_000));
        table.begin_epoch(1);
        (0..3).for_each(|session| table.connect(session_id(session)));
        Self {
            table,
            locks: BTreeMap::new(),
            epoch: 1,
            now: 0,
            callers: 0,
            granted: Vec::new(),
            waits: Vec::new(),
            last_token: FencingToken(0),
            answered: HashSet::new(),
            table_notices: Vec::new(),
            model_notices: Vec::new(),
        }
    }

    /// Takes one step in both and compares them.
    pub(super) fn step(&mut self, step: Step) -> Result<(), TestCaseError> {
        match step {
            Step::Pass(time) => self.now += u64::from(time),
            Step::Epoch => {
                self.epoch += 1;
                self.table.begin_epoch(self.epoch);
            }
            Step::Advance => self.advance()?,
            Step::Acquire(request) => self.acquire(request)?,
            Step::Renew { which, lease } => {
                if let Some(granted) = pick(&self.granted, which) {
                    self.renew(granted, lease.into())?;
                }
            }
            Step::Release(which) => {
                if let Some(granted) = pick(&self.granted, which) {
                    self.release(granted)?;
                }
            }
            Step::Force(lock) => self.force_release(lock)?,
            Step::Leave(which) => {
                if let Some(wait) = pick(&self.waits, which) {
                    self.leave(wait)?;
                }
            }
            Step::Disconnect(session) => self.disconnect(session),
        }
        self.compare()
    }

    /// Lets time pass until every lease and every wait is over.
    pub(super) fn end(mut self) -> Result<(), TestCaseError> {
        for _ in 0..200 {
            self.now += 60;
            self.table.advance(at(self.now), &mut self.table_notices);
        }
        prop_assert_eq!((counted(&self.table), self.table.next_moment()), ((0, 0), None));
        prop_assert!(self.table.namespaces().is_empty(), "shares are left over");
        Ok(())
    }

    /// The model of a lock, settled.
    fn settled(&mut self, lock: u8) -> &mut Lock {
        let model = self.locks.entry(lock).or_default();
        model.settle(self.now, &mut self.model_notices);
        model
    }

    fn pass_on(&mut self, lock: u8) {
        let model = self.locks.entry(lock).or_default();
        model.pass_on(self.now, &mut self.model_notices);
    }

    fn note_token(&mut self, token: FencingToken) -> Result<(), TestCaseError> {
        prop_assert!(token > self.last_token, "tokens only grow");
        self.last_token = token;
        Ok(())
    }

    fn advance(&mut self) -> Result<(), TestCaseError> {
        self.table.advance(at(self.now), &mut self.table_notices);
        for lock in self.locks.values_mut() {
            lock.settle(self.now, &mut self.model_notices);
        }
        if let Some(next) = self.table.next_moment() {
            prop_assert!(next > at(self.now), "what is due stays undone");
        }
        Ok(())
    }

    fn acquire(&mut self, acquire: Acquire) -> Result<(), TestCaseError> {
        let Acquire { lock, lease, wait, session } = acquire;
        self.callers += 1;
        let (caller, now) = (self.callers, self.now);
        let mut request = request("x", lease.into(), wait.into());
        request.session = session.map(session_id);
        let notices = &mut self.table_notices;
        let outcome = self.table.acquire(&lock_name(lock), request, caller, at(now), notices);
        let model = self.settled(lock);
        match (outcome, model.holder) {
            (Ok(LockOutcome::Granted(grant, _)), None) => {
                let ends = now + u64::from(lease);
                model.holder = Some(Holder { caller, ends, session });
                prop_assert_eq!(grant.ends_at, at(ends));
                self.note_token(grant.token)?;
                self.granted.push(Granted { caller, lock, token: grant.token });
            }
            (Ok(LockOutcome::Queued(ticket)), Some(_)) if wait > 0 => {
                let times_out = now + u64::from(wait);
                model.queue.push(Queued { caller, lease: lease.into(), times_out, session });
                self.waits.push(Wait { caller, lock, ticket });
            }
            (Ok(LockOutcome::HeldByOther(_, waiter)), Some(_)) if wait == 0 => {
                prop_assert_eq!(waiter, caller);
            }
            other => prop_assert!(false, "{:?}", other),
        }
        Ok(())
    }

    fn renew(&mut self, granted: Granted, lease: u64) -> Result<(), TestCaseError> {
        let (name, now) = (lock_name(granted.lock), self.now);
        let notices = &mut self.table_notices;
        let lease_time = Duration::from_millis(lease);
        let renewed = self.table.renew(&name, granted.token, lease_time, at(now), notices);
        match &mut self.settled(granted.lock).holder {
            Some(holder) if holder.caller == granted.caller => {
                holder.ends = now + lease;
                prop_assert_eq!(renewed, Ok(at(holder.ends)));
            }
            _ => prop_assert!(renewed.is_err()),
        }
        Ok(())
    }

    fn release(&mut self, granted: Granted) -> Result<(), TestCaseError> {
        let (name, now) = (lock_name(granted.lock), at(self.now));
        let released = self.table.release(&name, granted.token, now, &mut self.table_notices);
        let holder = self.settled(granted.lock).holder;
        let holds = holder.is_some_and(|holder| holder.caller == granted.caller);
        prop_assert_eq!(released.is_ok(), holds);
        if holds {
            self.pass_on(granted.lock);
        }
        Ok(())
    }

    fn force_release(&mut self, lock: u8) -> Result<(), TestCaseError> {
        let (name, now) = (lock_name(lock), at(self.now));
        let forced = self.table.force_release(&name, now, &mut self.table_notices);
        prop_assert_eq!(forced.is_some(), self.settled(lock).holder.is_some());
        if forced.is_some() {
            self.pass_on(lock);
        }
        Ok(())
    }

    fn leave(&mut self, wait: Wait) -> Result<(), TestCaseError> {
        let left = self.table.leave(&lock_name(wait.lock), wait.ticket);
        let queue = &mut self.locks.entry(wait.lock).or_default().queue;
        let before = queue.len();
        queue.retain(|queued| queued.caller != wait.caller);
        prop_assert_eq!(left, queue.len() < before);
        self.answered.insert(wait.caller);
        Ok(())
    }

    fn disconnect(&mut self, session: u8) {
        self.table.disconnect(session_id(session), at(self.now), &mut self.table_notices);
        self.table.connect(session_id(session));
        for lock in self.locks_of(session) {
            let model = self.settled(lock);
            let is_gone = |queued: &Queued| queued.session == Some(session);
            let gone: Vec<u32> =
                model.queue.iter().filter(|queued| is_gone(queued)).map(|q| q.caller).collect();
            model.queue.retain(|queued| !is_gone(queued));
            let held = model.is_held_by_session(session);
            self.answered.extend(gone);
            if held {
                self.pass_on(lock);
            }
        }
    }

    /// The locks that a session holds or waits for, in the order of their tokens.
    fn locks_of(&self, session: u8) -> Vec<u8> {
        let token = |caller: u32| {
            self.granted.iter().find(|granted| granted.caller == caller).map(|g| g.token)
        };
        let concerned = self.locks.iter().filter(|(_, lock)| {
            lock.is_held_by_session(session)
                || lock.queue.iter().any(|queued| queued.session == Some(session))
        });
        let mut order: Vec<(Option<FencingToken>, u8)> = concerned
            .filter_map(|(name, lock)| Some((token(lock.holder?.caller), *name)))
            .collect();
        order.sort_unstable();
        order.into_iter().map(|(_, lock)| lock).collect()
    }

    /// The notices of this step and the numbers of leases and waits are equal in both.
    fn compare(&mut self) -> Result<(), TestCaseError> {
        let mut said = Vec::new();
        for notice in std::mem::take(&mut self.table_notices) {
            match notice {
                LockNotice::Granted(caller, grant) => {
                    self.note_token(grant.token)?;
                    let lock: u8 = grant.name.1.as_str().parse().unwrap();
                    self.granted.push(Granted { caller, lock, token: grant.token });
                    let ends = grant.ends_at.as_millis();
                    said.push(Notice { caller, news: News::Granted { ends } });
                }
                LockNotice::TimedOut(caller, _) => {
                    said.push(Notice { caller, news: News::TimedOut });
                }
                LockNotice::Ended(..) => {}
            }
        }
        for Notice { caller, .. } in &said {
            let first = self.answered.insert(*caller);
            prop_assert!(first, "{} is notified twice, or after it left", caller);
        }
        // Locks are independent, so the rules fix only the order within one.
        let mut expected = std::mem::take(&mut self.model_notices);
        said.sort_by_key(|notice| notice.caller);
        expected.sort_by_key(|notice| notice.caller);
        prop_assert_eq!(&said, &expected);
        let queued: usize = self.locks.values().map(|lock| lock.queue.len()).sum();
        let held = self.locks.values().filter(|lock| lock.holder.is_some()).count();
        prop_assert_eq!(counted(&self.table), (held, queued));
        Ok(())
    }
}

fn pick<T: Copy>(items: &[T], which: usize) -> Option<T> {
    (!items.is_empty()).then(|| items[which % items.len()])
}
