//! Refill permits by the plain reading of the rules, step by step beside the table: what the table
//! says must be what the rules say.

use std::collections::{BTreeMap, HashSet};
use std::time::Duration;

use proptest::prelude::*;

use super::tests::{LEASE, N, at, finish, key, limits, me};
use super::{
    AcquireRefused, JoinOutcome, Permit, PermitNumber, RefillTable, RefusedReason, ReleaseOutcome,
    WaitTicket,
};
use crate::key::Key;

/// One step of a random schedule. Callers, permits and waits are picked by number.
#[derive(Debug, Clone)]
pub(super) enum Step {
    Join(u8),
    Begin(u8),
    Acquire { key: u8, lease: u8 },
    Leave(usize),
    Finish(usize),
    Release(usize, bool),
    Void(Voiding),
    Expire,
    Pass(u8),
}

/// Which of the three keys an invalidation is about.
#[derive(Debug, Clone, Copy)]
pub(super) enum Voiding {
    One(u8),
    All,
    AllBut(u8),
}

impl Step {
    pub(super) fn any() -> impl Strategy<Value = Self> {
        prop_oneof![
            3 => (0..3u8).prop_map(Step::Join),
            1 => (0..3u8).prop_map(Step::Begin),
            5 => (0..3u8, 1..120u8).prop_map(|(key, lease)| Step::Acquire { key, lease }),
            1 => (0..8usize).prop_map(Step::Leave),
            3 => (0..8usize).prop_map(Step::Finish),
            2 => (0..8usize, any::<bool>()).prop_map(|(which, next)| Step::Release(which, next)),
            2 => (0..3u8).prop_map(|k| Step::Void(Voiding::One(k))),
            2 => Just(Step::Void(Voiding::All)),
            1 => (0..3u8).prop_map(|k| Step::Void(Voiding::AllBut(k))),
            2 => Just(Step::Expire),
            3 => (0..80u8).prop_map(Step::Pass),
        ]
    }
}

/// The live permit of a key, and the queue for it: callers with the leases that they would get.
#[derive(Debug, Clone)]
struct Live {
    number: PermitNumber,
    ends: u64,
    by_service: bool,
    queue: Vec<(u32, u64)>,
}

/// A voided permit that is remembered.
#[derive(Debug)]
struct Void {
    ends: u64,
    waiters: Vec<u32>,
}

/// What one step brings, by the table and by the rules.
#[derive(Debug, Default)]
struct Brought {
    /// Callers whose turn it is, by the table.
    turns: Vec<(Permit, u32)>,
    /// The same by the rules.
    expected_turns: Vec<(u32, u8)>,
    /// Waiters that the table returned.
    back: Vec<u32>,
    /// The same by the rules.
    expected_back: Vec<u32>,
}

/// The table beside the rules.
pub(super) struct Model {
    table: RefillTable<u32>,
    now: u64,
    callers: u32,
    /// Every permit that was ever granted.
    permits: Vec<Permit>,
    tickets: Vec<(u32, u8, WaitTicket)>,
    live: BTreeMap<u8, Live>,
    voided: BTreeMap<PermitNumber, Void>,
    /// Waiting callers.
    open: HashSet<u32>,
}

fn name(k: u8) -> Key {
    key(&k.to_string())
}

fn number_of(key: &Key) -> u8 {
    key.as_str().parse().unwrap()
}

const LEASE_MS: u64 = LEASE.as_millis() as u64;

impl Model {
    pub(super) fn new() -> Self {
        Self {
            table: RefillTable::new(limits(1_000), 77),
            now: 0,
            callers: 0,
            permits: Vec::new(),
            tickets: Vec::new(),
            live: BTreeMap::new(),
            voided: BTreeMap::new(),
            open: HashSet::new(),
        }
    }

    /// Takes a step, and compares what it brings.
    pub(super) fn take(&mut self, step: Step) {
        let mut brought = Brought::default();
        match step {
            Step::Pass(time) => self.now += u64::from(time),
            Step::Join(k) => self.join(k),
            Step::Begin(k) => self.begin(k),
            Step::Acquire { key, lease } => self.acquire(key, lease.into(), &mut brought),
            Step::Leave(which) if !self.tickets.is_empty() => self.leave(which),
            Step::Finish(which) if !self.permits.is_empty() => self.finish(which, &mut brought),
            Step::Release(which, next) if !self.permits.is_empty() => {
                self.release(which, next, &mut brought);
            }
            Step::Void(voiding) => self.void(voiding, &mut brought),
            Step::Expire => self.expire(&mut brought),
            Step::Leave(_) | Step::Finish(_) | Step::Release(..) => {}
        }
        self.compare(brought);
    }

    fn compare(&mut self, mut brought: Brought) {
        let mut turns: Vec<(u32, u8)> =
            brought.turns.iter().map(|(permit, who)| (*who, number_of(&permit.key))).collect();
        turns.sort_unstable();
        brought.expected_turns.sort_unstable();
        assert_eq!(turns, brought.expected_turns);
        for (permit, who) in brought.turns {
            assert!(self.open.remove(&who), "a waiter came back twice");
            self.permits.push(permit);
        }
        brought.back.sort_unstable();
        brought.expected_back.sort_unstable();
        assert_eq!(brought.back, brought.expected_back);
        for who in brought.back {
            assert!(self.open.remove(&who), "a waiter came back twice");
        }
        let counts = (self.table.live(), self.table.waiters());
        assert_eq!(counts, (self.live.len(), self.open.len()));
    }

    /// Time alone ends every wait.
    pub(super) fn end(mut self) {
        for _ in 0..200 {
            self.now += 120;
            let expired = self.table.expire(at(self.now), LEASE);
            let ended = expired.dropped.iter().chain(expired.turns.iter().map(|(_, who)| who));
            ended.for_each(|who| {
                self.open.remove(who);
            });
            // The service always finishes.
            for permit in expired.refills {
                for who in finish(&mut self.table, &permit, at(self.now + 1)).unwrap() {
                    self.open.remove(&who);
                }
            }
        }
        assert!(self.open.is_empty(), "forgotten waiters: {:?}", self.open);
        assert_eq!((self.table.live(), self.table.waiters()), (0, 0));
    }

    /// Passes a key's permit to the first in its queue. The number comes from the table later.
    fn pass_on(&mut self, k: u8, brought: &mut Brought) {
        let Some(mut live) = self.live.remove(&k) else { return };
        if live.queue.is_empty() {
            return;
        }
        let (who, lease) = live.queue.remove(0);
        let (number, ends) = (PermitNumber(0), self.now + lease);
        self.live.insert(k, Live { number, ends, by_service: false, queue: live.queue });
        brought.expected_turns.push((who, k));
    }

    /// Fills in the numbers of permits that passed on.
    fn number_turns(&mut self, brought: &Brought) {
        for (permit, _) in &brought.turns {
            self.live.get_mut(&number_of(&permit.key)).unwrap().number = permit.number;
        }
    }

    fn begun_by_service(&mut self, k: u8, permit: Permit, queue: Vec<(u32, u64)>) {
        let (number, ends) = (permit.number, self.now + LEASE_MS);
        self.live.insert(k, Live { number, ends, by_service: true, queue });
        self.permits.push(permit);
    }

    fn join(&mut self, k: u8) {
        self.callers += 1;
        self.open.insert(self.callers);
        let joined = self.table.join(N, &name(k), self.callers, at(self.now), LEASE);
        match (joined, self.live.get_mut(&k)) {
            (JoinOutcome::Waiting(number), Some(live)) => {
                assert!(self.now < live.ends && number == live.number);
                live.queue.push((self.callers, LEASE_MS));
            }
            (JoinOutcome::Holder(permit), live) => {
                assert!(live.as_ref().is_none_or(|live| live.ends <= self.now), "two live permits");
                let mut queue =
                    live.map(|live| std::mem::take(&mut live.queue)).unwrap_or_default();
                queue.push((self.callers, LEASE_MS));
                self.begun_by_service(k, permit, queue);
            }
            other => panic!("{other:?}"),
        }
    }

    fn begin(&mut self, k: u8) {
        let begun = self.table.begin(N, &name(k), at(self.now), LEASE);
        let free = self.live.get(&k).is_none_or(|live| live.ends <= self.now);
        assert_eq!(begun.is_some(), free);
        if let Some(permit) = begun {
            let queue = self.live.remove(&k).map(|live| live.queue).unwrap_or_default();
            self.begun_by_service(k, permit, queue);
        }
    }

    fn acquire(&mut self, k: u8, lease: u64, brought: &mut Brought) {
        self.callers += 1;
        let (time, now) = (Duration::from_millis(lease), at(self.now));
        let acquired = self.table.acquire(N, &name(k), &me(), now, time, &mut brought.turns);
        if self.live.get(&k).is_some_and(|live| live.ends <= self.now) {
            self.pass_on(k, brought);
        }
        self.number_turns(brought);
        match (acquired, self.live.get_mut(&k)) {
            (Ok(permit), None) => {
                let (number, ends) = (permit.number, self.now + lease);
                self.live.insert(k, Live { number, ends, by_service: false, queue: vec![] });
                self.permits.push(permit);
            }
            (Err(AcquireRefused::Live(found)), Some(live)) => {
                assert_eq!((found.number, found.ends_at), (live.number, at(live.ends)));
                let ticket = self.table.wait(N, &name(k), &me(), self.callers, time).unwrap();
                live.queue.push((self.callers, lease));
                self.open.insert(self.callers);
                self.tickets.push((self.callers, k, ticket));
            }
            other => panic!("{other:?}"),
        }
    }

    fn leave(&mut self, which: usize) {
        let (who, k, ticket) = self.tickets[which % self.tickets.len()];
        let left = self.table.leave(N, &name(k), ticket);
        let queue = self.live.get_mut(&k).map(|live| &mut live.queue);
        let was_queued = queue.is_some_and(|queue| {
            let before = queue.len();
            queue.retain(|(waiting, _)| *waiting != who);
            queue.len() < before
        });
        assert_eq!(left, was_queued);
        if left {
            self.open.remove(&who);
        }
    }

    fn finish(&mut self, which: usize, brought: &mut Brought) {
        let permit = self.permits[which % self.permits.len()].clone();
        let k = number_of(&permit.key);
        let finished = finish(&mut self.table, &permit, at(self.now));
        let live = self.live.get(&k).filter(|live| live.number == permit.number).cloned();
        let in_time = live.as_ref().is_some_and(|live| self.now < live.ends);
        brought.back = match finished {
            Ok(waiters) => {
                assert!(in_time, "an old value would be stored");
                waiters
            }
            Err(refused) => {
                assert!(!in_time, "a good value was refused");
                let was_voided = self.voided.contains_key(&permit.number);
                assert_eq!(refused.reason == RefusedReason::Voided, was_voided);
                refused.waiters
            }
        };
        if let Some(void) = self.voided.remove(&permit.number) {
            brought.expected_back = void.waiters;
        } else if let Some(live) = live
            && (in_time || live.by_service)
        {
            brought.expected_back = live.queue.iter().map(|(who, _)| *who).collect();
            self.live.remove(&k);
        }
    }

    fn release(&mut self, which: usize, next: bool, brought: &mut Brought) {
        let permit = self.permits[which % self.permits.len()].clone();
        let k = number_of(&permit.key);
        let released = self.table.release(N, &permit.key, permit.number, next, at(self.now));
        let live = self.live.get(&k);
        let in_time = live.is_some_and(|l| l.number == permit.number && self.now < l.ends);
        assert_eq!(released.is_ok(), in_time);
        match released {
            Ok(ReleaseOutcome::Turn(permit, waiter)) => {
                assert!(next);
                self.pass_on(k, brought);
                brought.turns.push((permit, waiter));
                self.number_turns(brought);
            }
            Ok(ReleaseOutcome::Failed(waiters)) => {
                let queue = self.live.remove(&k).unwrap().queue;
                assert!(!next || queue.is_empty());
                brought.expected_back = queue.iter().map(|(who, _)| *who).collect();
                brought.back = waiters;
            }
            Err(_) => {}
        }
    }

    fn void(&mut self, voiding: Voiding, brought: &mut Brought) {
        let (voided, keys): (_, Vec<u8>) = match voiding {
            Voiding::One(k) => (self.table.void(N, &name(k)), vec![k]),
            Voiding::All => (self.table.void_all(N), (0..3).collect()),
            Voiding::AllBut(k) => (
                self.table.void_where(N, |key| *key != name(k)),
                (0..3).filter(|other| *other != k).collect(),
            ),
        };
        let ended: Vec<Live> = keys.iter().filter_map(|k| self.live.remove(k)).collect();
        assert_eq!(voided.permits, ended.len());
        brought.back = voided.waiters;
        for live in ended {
            let mut waiters: Vec<u32> = live.queue.iter().map(|(who, _)| *who).collect();
            if !live.by_service {
                brought.expected_back.append(&mut waiters);
            }
            self.voided.insert(live.number, Void { ends: live.ends, waiters });
        }
    }

    fn expire(&mut self, brought: &mut Brought) {
        let expired = self.table.expire(at(self.now), LEASE);
        brought.turns = expired.turns;
        brought.back = expired.dropped;
        let over = self.live.iter().filter(|(_, live)| live.ends <= self.now);
        for k in over.map(|(k, _)| *k).collect::<Vec<_>>() {
            if !self.live[&k].by_service {
                self.pass_on(k, brought);
                continue;
            }
            let live = self.live.remove(&k).unwrap();
            if !live.queue.is_empty() {
                let permit = expired.refills.iter().find(|permit| number_of(&permit.key) == k);
                let number = permit.expect("callers still wait").number;
                self.live.insert(k, Live { number, ends: self.now + LEASE_MS, ..live });
            }
        }
        self.number_turns(brought);
        self.permits.extend(expired.refills);
        let now = self.now;
        let expected_back = &mut brought.expected_back;
        self.voided.retain(|_, void| {
            if void.ends <= now {
                expected_back.append(&mut void.waiters);
            }
            void.ends > now
        });
    }
}
