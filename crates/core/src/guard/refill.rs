//! The single-refill state machine.
//!
//! For each key at most one permit is live. Whoever holds it reads the origin; everyone else who
//! asks for the key meanwhile waits. A permit ends by being finished, by an invalidation that voids
//! it, or by its end time; every waiter is handed back exactly once in each of these cases.

use std::collections::HashMap;
use std::time::Duration;

use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

/// The number of a permit; it only grows within one table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PermitNumber(pub u64);

/// The right to refill one key until a moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Permit {
    /// The namespace of the key.
    pub namespace: NamespaceId,
    /// The key to refill.
    pub key: Key,
    /// This permit's number.
    pub number: PermitNumber,
    /// When the permit lapses.
    pub ends_at: Timestamp,
}

/// What became of a caller that asked for a missing key.
#[derive(Debug, PartialEq, Eq)]
pub enum Joined<W> {
    /// The caller waits, and the permit is now live: somebody must refill with it.
    Holder(Permit),
    /// The caller waits for the permit that is live already.
    Waiting(PermitNumber),
    /// Too many callers wait for this key already; the waiter is handed back.
    Full(W),
}

/// Why a refill may not be stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RefusedReason {
    /// The key was invalidated or written after the permit was given.
    #[error("the key was invalidated or written while it was being refilled")]
    Voided,
    /// The permit's time ended before the refill was finished.
    #[error("the refill permit had ended before the refill was finished")]
    Lapsed,
}

/// A refused finish: the value must not be stored, but those who wait for it may have it, since
/// they asked before the invalidation.
#[derive(Debug, PartialEq, Eq)]
pub struct Refused<W> {
    /// Why the value must not be stored.
    pub reason: RefusedReason,
    /// Who waited for this permit and has not been handed back yet.
    pub waiters: Vec<W>,
}

#[derive(Debug)]
struct Flight<W> {
    number: PermitNumber,
    ends_at: Timestamp,
    waiters: Vec<W>,
}

/// All refills under way, with whatever represents a waiting caller as `W`.
#[derive(Debug)]
pub struct RefillTable<W> {
    live: HashMap<(NamespaceId, Key), Flight<W>>,
    voided: HashMap<PermitNumber, Flight<W>>,
    last_number: u64,
    most_waiters: usize,
}

impl<W> RefillTable<W> {
    /// An empty table in which at most `most_waiters` callers wait for one key.
    pub fn new(most_waiters: usize) -> Self {
        Self { live: HashMap::new(), voided: HashMap::new(), last_number: 0, most_waiters }
    }

    fn permit(&mut self, namespace: NamespaceId, key: &Key, ends_at: Timestamp) -> Permit {
        self.last_number += 1;
        Permit { namespace, key: key.clone(), number: PermitNumber(self.last_number), ends_at }
    }

    /// A caller asks for a missing key and will wait for it; the first one gets the permit, which
    /// lapses after `hold`.
    pub fn join(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        waiter: W,
        now: Timestamp,
        hold: Duration,
    ) -> Joined<W> {
        let most_waiters = self.most_waiters;
        if let Some(flight) = self.live.get_mut(&(namespace, key.clone())) {
            if flight.waiters.len() >= most_waiters {
                return Joined::Full(waiter);
            }
            flight.waiters.push(waiter);
            if now < flight.ends_at {
                return Joined::Waiting(flight.number);
            }
            // The holder let its time lapse: this caller takes over, with all who waited.
            let waiters = std::mem::take(&mut flight.waiters);
            return Joined::Holder(self.start(namespace, key, waiters, now + hold));
        }
        Joined::Holder(self.start(namespace, key, vec![waiter], now + hold))
    }

    /// Asks for the permit without waiting, to refresh an entry in the background; `None` when
    /// another permit for the key is live.
    pub fn begin(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        now: Timestamp,
        hold: Duration,
    ) -> Option<Permit> {
        let waiters = match self.live.get_mut(&(namespace, key.clone())) {
            Some(flight) if now < flight.ends_at => return None,
            Some(flight) => std::mem::take(&mut flight.waiters),
            None => Vec::new(),
        };
        Some(self.start(namespace, key, waiters, now + hold))
    }

    fn start(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        waiters: Vec<W>,
        ends_at: Timestamp,
    ) -> Permit {
        let permit = self.permit(namespace, key, ends_at);
        let flight = Flight { number: permit.number, ends_at, waiters };
        self.live.insert((namespace, key.clone()), flight);
        permit
    }

    /// The holder is done, with a value or with a failure; the permit ends and its waiters are
    /// handed back. `now` decides whether it was in time.
    ///
    /// # Errors
    /// [`Refused`] when the permit was voided or had lapsed: the value must not be stored.
    pub fn finish(&mut self, permit: &Permit, now: Timestamp) -> Result<Vec<W>, Refused<W>> {
        if let Some(flight) = self.voided.remove(&permit.number) {
            let (reason, waiters) = (RefusedReason::Voided, flight.waiters);
            return Err(Refused { reason, waiters });
        }
        let target = (permit.namespace, permit.key.clone());
        match self.live.get(&target) {
            Some(flight) if flight.number == permit.number => {
                let waiters = self.live.remove(&target).map(|f| f.waiters).unwrap_or_default();
                if now < permit.ends_at {
                    Ok(waiters)
                } else {
                    Err(Refused { reason: RefusedReason::Lapsed, waiters })
                }
            }
            _ => Err(Refused { reason: RefusedReason::Lapsed, waiters: Vec::new() }),
        }
    }

    /// The key was invalidated or written: a live permit for it is voided. Callers who come later
    /// start a new refill; those who wait already are handed back when the old holder finishes or
    /// its time ends. Returns whether there was such a permit.
    pub fn void(&mut self, namespace: NamespaceId, key: &Key) -> bool {
        match self.live.remove(&(namespace, key.clone())) {
            Some(flight) => {
                self.voided.insert(flight.number, flight);
                true
            }
            None => false,
        }
    }

    /// The whole namespace was invalidated: all its live permits are voided. Returns how many.
    pub fn void_namespace(&mut self, namespace: NamespaceId) -> usize {
        let before = self.voided.len();
        let ended: Vec<_> = self.live.extract_if(|(of, _), _| *of == namespace).collect();
        self.voided.extend(ended.into_iter().map(|(_, flight)| (flight.number, flight)));
        self.voided.len() - before
    }

    /// Ends what has lapsed: callers still waiting for a live key get a new permit each, for
    /// somebody to refill with; waiters of voided permits are handed back.
    pub fn lapse(&mut self, now: Timestamp, hold: Duration) -> (Vec<Permit>, Vec<W>) {
        let lapsed: Vec<_> = self.live.extract_if(|_, f| f.ends_at <= now).collect();
        let mut permits = Vec::new();
        for ((namespace, key), flight) in lapsed {
            if !flight.waiters.is_empty() {
                permits.push(self.start(namespace, &key, flight.waiters, now + hold));
            }
        }
        let ended = self.voided.extract_if(|_, f| f.ends_at <= now);
        (permits, ended.flat_map(|(_, flight)| flight.waiters).collect())
    }

    /// How many permits are live.
    pub fn live(&self) -> usize {
        self.live.len()
    }

    /// How many callers wait, for live and for voided permits.
    pub fn waiting(&self) -> usize {
        self.live.values().chain(self.voided.values()).map(|f| f.waiters.len()).sum()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use proptest::prelude::*;

    use super::*;

    const N: NamespaceId = NamespaceId(1);
    const HOLD: Duration = Duration::from_millis(100);

    fn key(text: &str) -> Key {
        Key::new(text).unwrap()
    }

    fn at(millis: u64) -> Timestamp {
        Timestamp::from_millis(millis)
    }

    #[test]
    fn a_thousand_callers_get_one_permit() {
        let mut table = RefillTable::new(10_000);
        let holders = (0..1_000)
            .filter(|n| matches!(table.join(N, &key("k"), *n, at(0), HOLD), Joined::Holder(_)))
            .count();
        assert_eq!((holders, table.live(), table.waiting()), (1, 1, 1_000));
    }

    #[test]
    fn a_late_holder_is_refused_and_its_waiters_follow_the_new_one() {
        let mut table = RefillTable::new(10);
        let Joined::Holder(first) = table.join(N, &key("k"), 'a', at(0), HOLD) else { panic!() };
        let Joined::Holder(second) = table.join(N, &key("k"), 'b', at(100), HOLD) else { panic!() };
        assert!(second.number > first.number);
        let late = table.finish(&first, at(120)).unwrap_err();
        assert_eq!((late.reason, late.waiters.len()), (RefusedReason::Lapsed, 0));
        assert_eq!(table.finish(&second, at(150)).unwrap(), ['a', 'b']);
    }

    #[test]
    fn an_invalidation_voids_and_newcomers_start_afresh() {
        let mut table = RefillTable::new(10);
        let Joined::Holder(old) = table.join(N, &key("k"), 'a', at(0), HOLD) else { panic!() };
        assert!(table.void(N, &key("k")));
        let Joined::Holder(new) = table.join(N, &key("k"), 'b', at(1), HOLD) else { panic!() };
        let refused = table.finish(&old, at(2)).unwrap_err();
        assert_eq!((refused.reason, refused.waiters), (RefusedReason::Voided, vec!['a']));
        assert_eq!(table.finish(&new, at(3)).unwrap(), ['b']);
    }

    #[test]
    fn voiding_a_namespace_leaves_others_alone() {
        let mut table = RefillTable::new(10);
        for namespace in [N, NamespaceId(2)] {
            table.join(namespace, &key("k"), 'a', at(0), HOLD);
        }
        assert_eq!(table.void_namespace(N), 1);
        assert_eq!(table.live(), 1);
        assert!(table.void(NamespaceId(2), &key("k")));
    }

    #[test]
    fn waiters_are_bounded() {
        let mut table = RefillTable::new(1);
        table.join(N, &key("k"), 'a', at(0), HOLD);
        assert_eq!(table.join(N, &key("k"), 'b', at(0), HOLD), Joined::Full('b'));
    }

    #[derive(Debug, Clone)]
    enum Step {
        Join(u8),
        Begin(u8),
        Finish(usize),
        Void(u8),
        VoidAll,
        Lapse,
        Wait(u8),
    }

    fn step() -> impl Strategy<Value = Step> {
        prop_oneof![
            4 => (0..3u8).prop_map(Step::Join),
            1 => (0..3u8).prop_map(Step::Begin),
            3 => (0..8usize).prop_map(Step::Finish),
            2 => (0..3u8).prop_map(Step::Void),
            1 => Just(Step::VoidAll),
            1 => Just(Step::Lapse),
            2 => (0..80u8).prop_map(Step::Wait),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2_000))]

        /// Promises 2 and 3 over random schedules: at most one permit is live for a key, a finish
        /// is accepted only when nothing voided or outlived its permit, and every waiter comes
        /// back exactly once.
        #[test]
        fn one_live_permit_no_old_data_no_lost_waiter(
            steps in prop::collection::vec(step(), 1..60)
        ) {
            let mut table = RefillTable::new(1_000);
            let mut now = 0u64;
            let mut next_waiter = 0u32;
            let mut pending: Vec<Permit> = Vec::new();
            // What a plain reading of the rules says: the permits still good for each key.
            let mut good: HashMap<u8, PermitNumber> = HashMap::new();
            let mut open: HashSet<u32> = HashSet::new();
            let name = |k: u8| key(&k.to_string());
            for step in steps {
                match step {
                    Step::Wait(ms) => now += u64::from(ms),
                    Step::Join(k) => {
                        let waiter = next_waiter;
                        next_waiter += 1;
                        open.insert(waiter);
                        let others = pending.iter().find(|p| {
                            good.get(&k) == Some(&p.number) && at(now) < p.ends_at
                        });
                        match table.join(N, &name(k), waiter, at(now), HOLD) {
                            Joined::Holder(permit) => {
                                prop_assert!(others.is_none(), "two live permits");
                                good.insert(k, permit.number);
                                pending.push(permit);
                            }
                            Joined::Waiting(number) => {
                                prop_assert_eq!(others.map(|p| p.number), Some(number));
                            }
                            Joined::Full(_) => prop_assert!(false, "the bound is not reached"),
                        }
                    }
                    Step::Begin(k) => {
                        if let Some(permit) = table.begin(N, &name(k), at(now), HOLD) {
                            good.insert(k, permit.number);
                            pending.push(permit);
                        }
                    }
                    Step::Finish(which) if !pending.is_empty() => {
                        let permit = pending.remove(which % pending.len());
                        let k: u8 = permit.key.as_str().parse().unwrap();
                        let may_store = good.get(&k) == Some(&permit.number) && at(now) < permit.ends_at;
                        let waiters = match table.finish(&permit, at(now)) {
                            Ok(waiters) => {
                                prop_assert!(may_store, "an old value would be stored");
                                waiters
                            }
                            Err(refused) => {
                                prop_assert!(!may_store, "a good value was refused");
                                refused.waiters
                            }
                        };
                        if good.get(&k) == Some(&permit.number) {
                            good.remove(&k);
                        }
                        for waiter in waiters {
                            prop_assert!(open.remove(&waiter), "a waiter came back twice");
                        }
                    }
                    Step::Finish(_) => {}
                    Step::Void(k) => {
                        table.void(N, &name(k));
                        good.remove(&k);
                    }
                    Step::VoidAll => {
                        table.void_namespace(N);
                        good.clear();
                    }
                    Step::Lapse => {
                        let (permits, waiters) = table.lapse(at(now), HOLD);
                        for permit in permits {
                            good.insert(permit.key.as_str().parse().unwrap(), permit.number);
                            pending.push(permit);
                        }
                        for waiter in waiters {
                            prop_assert!(open.remove(&waiter), "a waiter came back twice");
                        }
                    }
                }
                prop_assert_eq!(table.waiting(), open.len());
            }
            // Time alone ends every wait: lapses hand out permits until nobody is left.
            for permit in pending {
                let waiters = match table.finish(&permit, at(now)) {
                    Ok(waiters) => waiters,
                    Err(refused) => refused.waiters,
                };
                waiters.iter().for_each(|w| { open.remove(w); });
            }
            let (permits, waiters) = table.lapse(at(now + 1_000), HOLD);
            waiters.iter().for_each(|w| { open.remove(w); });
            for permit in permits {
                table.finish(&permit, at(now + 1_001)).unwrap().iter().for_each(|w| { open.remove(w); });
            }
            prop_assert!(open.is_empty(), "forgotten waiters: {open:?}");
        }
    }
}
