use std::collections::{BTreeMap, HashSet};
use std::time::Duration;

use proptest::prelude::*;

use super::super::lock::tests::cases;

use super::*;
use crate::guard::lock::AccessId;
use crate::guard::share::ShareLimits;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

const N: NamespaceId = NamespaceId(1);
const LEASE: Duration = Duration::from_millis(100);

fn key(text: &str) -> Key {
    Key::new(text).unwrap()
}

fn limits(waiters: usize) -> RefillLimits {
    RefillLimits { waiters, ..Default::default() }
}

fn me() -> Refiller {
    with_access(1)
}

fn with_access(access: u64) -> Refiller {
    Refiller { owner: "a test".into(), access: Some(AccessId(access)) }
}

fn at(millis: u64) -> Timestamp {
    Timestamp::from_millis(millis)
}

fn finish<W>(
    table: &mut RefillTable<W>,
    permit: &Permit,
    now: Timestamp,
) -> Result<Vec<W>, Refused<W>> {
    table.finish(permit.namespace, &permit.key, permit.number, now)
}

#[test]
fn a_thousand_callers_get_one_permit() {
    let mut table = RefillTable::new(limits(10_000), 0);
    let holders = (0..1_000)
        .filter(|n| matches!(table.join(N, &key("k"), *n, at(0), LEASE), JoinOutcome::Holder(_)))
        .count();
    assert_eq!((holders, table.live(), table.waiters()), (1, 1, 1_000));
}

#[test]
fn a_late_holder_is_refused_and_its_waiters_follow_the_new_one() {
    let mut table = RefillTable::new(limits(10), 0);
    let JoinOutcome::Holder(first) = table.join(N, &key("k"), 'a', at(0), LEASE) else { panic!() };
    let JoinOutcome::Holder(second) = table.join(N, &key("k"), 'b', at(100), LEASE) else {
        panic!()
    };
    assert!(second.number > first.number);
    let late = finish(&mut table, &first, at(120)).unwrap_err();
    assert_eq!((late.reason, late.waiters.len()), (RefusedReason::Expired, 0));
    assert_eq!(finish(&mut table, &second, at(150)).unwrap(), ['a', 'b']);
}

#[test]
fn an_invalidation_voids_and_newcomers_start_afresh() {
    let mut table = RefillTable::new(limits(10), 0);
    let JoinOutcome::Holder(old) = table.join(N, &key("k"), 'a', at(0), LEASE) else { panic!() };
    assert_eq!(table.void(N, &key("k")).permits, 1);
    let JoinOutcome::Holder(new) = table.join(N, &key("k"), 'b', at(1), LEASE) else { panic!() };
    let other = table.finish(N, &key("other"), old.number, at(2)).unwrap_err();
    assert_eq!(other.reason, RefusedReason::Expired, "a number is good for its own key alone");
    let refused = finish(&mut table, &old, at(2)).unwrap_err();
    assert_eq!((refused.reason, refused.waiters), (RefusedReason::Voided, vec!['a']));
    assert_eq!(finish(&mut table, &new, at(3)).unwrap(), ['b']);
}

#[test]
fn voiding_a_namespace_leaves_others_alone() {
    let mut table = RefillTable::new(limits(10), 0);
    for namespace in [N, NamespaceId(2)] {
        table.join(namespace, &key("k"), 'a', at(0), LEASE);
    }
    assert_eq!(table.void_where(N, |key| key.as_str() == "other").permits, 0);
    assert_eq!(table.void_all(N).permits, 1);
    assert_eq!((table.live(), table.void(NamespaceId(2), &key("k")).permits), (1, 1));
}

#[test]
fn callers_take_turns_until_one_brings_the_value() {
    let (mut table, mut turns) = (RefillTable::new(limits(2), 0), Vec::new());
    let first = table.acquire(N, &key("k"), &me(), at(0), LEASE, &mut turns).unwrap();
    let refused = table.acquire(N, &key("k"), &me(), at(1), LEASE, &mut turns).unwrap_err();
    let AcquireRefused::Live(live) = refused else { panic!("{refused:?}") };
    assert_eq!((live.number, live.ends_at), (first.number, at(100)));
    table.wait(N, &key("k"), &me(), 'b', LEASE).unwrap();
    let gone = table.wait(N, &key("k"), &me(), 'c', LEASE).unwrap();
    assert_eq!(table.wait(N, &key("k"), &me(), 'd', LEASE), Err('d'), "the line is bounded");
    assert!(table.leave(N, &key("k"), gone) && !table.leave(N, &key("k"), gone));
    table.wait(N, &key("k"), &me(), 'e', LEASE).unwrap();
    let back = table.release(N, &key("k"), first.number, true, at(50)).unwrap();
    let ReleaseOutcome::Turn(second, 'b') = back else { panic!("{back:?}") };
    assert_eq!(second.ends_at, at(150));
    // The second one expires; the third one brings the value.
    let expired = table.expire(at(150), LEASE);
    let (third, _) = expired.turns.into_iter().find(|(_, waiter)| *waiter == 'e').unwrap();
    let late = finish(&mut table, &second, at(151)).unwrap_err();
    assert_eq!((late.reason, late.waiters.len()), (RefusedReason::Expired, 0));
    assert_eq!(finish(&mut table, &third, at(152)), Ok(vec![]));
    assert_eq!((table.live(), turns.len()), (0, 0));
}

#[test]
fn a_turn_may_be_left_to_the_service() {
    let (mut table, mut turns) = (RefillTable::new(limits(9), 0), Vec::new());
    let first = table.acquire(N, &key("k"), &me(), at(0), LEASE, &mut turns).unwrap();
    table.join(N, &key("k"), 'a', at(1), LEASE);
    let back = table.release(N, &key("k"), first.number, true, at(50)).unwrap();
    let ReleaseOutcome::Turn(turn, waiter) = back else { panic!("{back:?}") };
    table.leave_to_service(&turn, waiter).unwrap();
    let view = table.views().next().unwrap();
    assert_eq!((view.held_by, view.waiting), (PermitHolder::Service, 1));
    assert_eq!(finish(&mut table, &turn, at(60)), Ok(vec!['a']));
    assert_eq!(table.leave_to_service(&turn, 'b'), Err('b'));
}

#[test]
fn access_that_is_withdrawn_ends_permits_and_waits_and_no_others() {
    let (mut table, mut turns) = (RefillTable::new(limits(10), 0), Vec::new());
    let (gone, stays) = (with_access(7), with_access(8));
    let held = table.acquire(N, &key("k"), &gone, at(0), LEASE, &mut turns).unwrap();
    table.wait(N, &key("k"), &gone, 'a', LEASE).unwrap();
    table.wait(N, &key("k"), &stays, 'b', LEASE).unwrap();
    let alone = table.acquire(N, &key("alone"), &gone, at(0), LEASE, &mut turns).unwrap();
    let other = table.acquire(N, &key("other"), &stays, at(0), LEASE, &mut turns).unwrap();
    table.join(N, &key("service"), 'c', at(0), LEASE);
    table.withdraw(AccessId(7), at(1), &mut turns);
    let told: Vec<char> = turns.iter().map(|(_, waiter)| *waiter).collect();
    assert_eq!(told, ['b'], "the one that waited with the same access is not asked");
    for permit in [&held, &alone] {
        let late = table.finish(N, &permit.key, permit.number, at(1)).unwrap_err();
        assert_eq!((late.reason, late.waiters.len()), (RefusedReason::Expired, 0));
    }
    let next = &turns[0].0;
    assert_eq!(table.finish(N, &next.key, next.number, at(2)), Ok(Vec::new()));
    assert_eq!(table.finish(N, &other.key, other.number, at(2)), Ok(Vec::new()));
    assert_eq!(table.views().count(), 1, "the service's refill goes on");
    table.acquire(N, &key("alone"), &stays, at(2), LEASE, &mut turns).unwrap();
}

#[derive(Debug, Clone)]
enum Step {
    Join(u8),
    Begin(u8),
    Ask { key: u8, lease: u8 },
    Leave(usize),
    Finish(usize),
    GiveBack(usize, bool),
    Void(u8),
    VoidAll,
    VoidAllBut(u8),
    Expire,
    Pass(u8),
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        3 => (0..3u8).prop_map(Step::Join),
        1 => (0..3u8).prop_map(Step::Begin),
        5 => (0..3u8, 1..120u8).prop_map(|(key, lease)| Step::Ask { key, lease }),
        1 => (0..8usize).prop_map(Step::Leave),
        3 => (0..8usize).prop_map(Step::Finish),
        2 => (0..8usize, any::<bool>()).prop_map(|(which, next)| Step::GiveBack(which, next)),
        2 => (0..3u8).prop_map(Step::Void),
        2 => Just(Step::VoidAll),
        1 => (0..3u8).prop_map(Step::VoidAllBut),
        2 => Just(Step::Expire),
        3 => (0..80u8).prop_map(Step::Pass),
    ]
}

/// A key by the plain reading of the rules: its live permit and its queue.
#[derive(Debug, Clone)]
struct Plain {
    number: PermitNumber,
    ends: u64,
    by_service: bool,
    line: Vec<(u32, u64)>,
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    /// Promises 2 and 3 over random schedules, step by step beside the plain reading of the rules:
    /// at most one permit is live for a key, a value is accepted only when nothing voided or
    /// outlived its permit, turns come in order, and every waiter is returned exactly once.
    #[test]
    fn one_live_permit_no_old_data_no_lost_waiter(steps in prop::collection::vec(step(), 1..60)) {
        let mut table = RefillTable::new(limits(1_000), 77);
        let (mut now, mut callers) = (0u64, 0u32);
        let mut permits: Vec<Permit> = Vec::new();
        let mut tickets: Vec<(u32, u8, WaitTicket)> = Vec::new();
        let mut plain: BTreeMap<u8, Plain> = BTreeMap::new();
        // Remembered voided permits: key, end, and waiting callers.
        let mut voided: BTreeMap<PermitNumber, (u8, u64, Vec<u32>)> = BTreeMap::new();
        let mut open: HashSet<u32> = HashSet::new();
        let name = |k: u8| key(&k.to_string());
        let number_of = |key: &Key| key.as_str().parse::<u8>().unwrap();
        for step in steps {
            // Callers whose turn it is, by the table and by the rules.
            let (mut turns, mut expected) = (Vec::new(), Vec::<(u32, u8)>::new());
            let mut back: Vec<u32> = Vec::new();
            let mut expected_back: Vec<u32> = Vec::new();
            // Passes a key's permit to the first in the queue.
            let pass_on = |plain: &mut BTreeMap<u8, Plain>, k: u8, now: u64, turns: &mut Vec<(u32, u8)>| {
                let Some(mut flight) = plain.remove(&k) else { return };
                if flight.line.is_empty() {
                    return;
                }
                let (who, lease) = flight.line.remove(0);
                // The number is filled in from what the table says.
                let number = PermitNumber(0);
                plain.insert(k, Plain { number, ends: now + lease, by_service: false, line: flight.line });
                turns.push((who, k));
            };
            match step {
                Step::Pass(time) => now += u64::from(time),
                Step::Join(k) => {
                    callers += 1;
                    open.insert(callers);
                    let lease = LEASE.as_millis() as u64;
                    match (table.join(N, &name(k), callers, at(now), LEASE), plain.get_mut(&k)) {
                        (JoinOutcome::Waiting(number), Some(flight)) => {
                            prop_assert!(now < flight.ends && number == flight.number);
                            flight.line.push((callers, lease));
                        }
                        (JoinOutcome::Holder(permit), flight) => {
                            prop_assert!(flight.as_ref().is_none_or(|f| f.ends <= now), "two live permits");
                            let mut line = flight.map(|f| std::mem::take(&mut f.line)).unwrap_or_default();
                            line.push((callers, lease));
                            let live = Plain { number: permit.number, ends: now + lease, by_service: true, line };
                            plain.insert(k, live);
                            permits.push(permit);
                        }
                        other => prop_assert!(false, "{:?}", other),
                    }
                }
                Step::Begin(k) => {
                    let begun = table.begin(N, &name(k), at(now), LEASE);
                    let free = plain.get(&k).is_none_or(|flight| flight.ends <= now);
                    prop_assert_eq!(begun.is_some(), free);
                    if let Some(permit) = begun {
                        let line = plain.remove(&k).map(|flight| flight.line).unwrap_or_default();
                        let ends = now + LEASE.as_millis() as u64;
                        plain.insert(k, Plain { number: permit.number, ends, by_service: true, line });
                        permits.push(permit);
                    }
                }
                Step::Ask { key: k, lease } => {
                    callers += 1;
                    let lease = u64::from(lease);
                    let time = Duration::from_millis(lease);
                    let claimed = table.acquire(N, &name(k), &me(), at(now), time, &mut turns);
                    if plain.get(&k).is_some_and(|flight| flight.ends <= now) {
                        pass_on(&mut plain, k, now, &mut expected);
                    }
                    for (permit, _) in &turns {
                        plain.get_mut(&k).unwrap().number = permit.number;
                    }
                    match (claimed, plain.get_mut(&k)) {
                        (Ok(permit), None) => {
                            let ends = now + lease;
                            let live = Plain { number: permit.number, ends, by_service: false, line: vec![] };
                            plain.insert(k, live);
                            permits.push(permit);
                        }
                        (Err(AcquireRefused::Live(live)), Some(flight)) => {
                            prop_assert_eq!((live.number, live.ends_at), (flight.number, at(flight.ends)));
                            let ticket = table.wait(N, &name(k), &me(), callers, time).unwrap();
                            flight.line.push((callers, lease));
                            open.insert(callers);
                            tickets.push((callers, k, ticket));
                        }
                        other => prop_assert!(false, "{:?}", other),
                    }
                }
                Step::Leave(which) if !tickets.is_empty() => {
                    let (who, k, ticket) = tickets[which % tickets.len()];
                    let left = table.leave(N, &name(k), ticket);
                    let line = plain.get_mut(&k).map(|flight| &mut flight.line);
                    let before = line.as_ref().map_or(0, |line| line.len());
                    let after = line.map_or(0, |line| {
                        line.retain(|(waiting, _)| *waiting != who);
                        line.len()
                    });
                    prop_assert_eq!(left, after < before);
                    if left {
                        open.remove(&who);
                    }
                }
                Step::Finish(which) if !permits.is_empty() => {
                    let permit = permits[which % permits.len()].clone();
                    let k = number_of(&permit.key);
                    let finished = finish(&mut table, &permit, at(now));
                    let live = plain.get(&k).filter(|flight| flight.number == permit.number).cloned();
                    let in_time = live.as_ref().is_some_and(|flight| now < flight.ends);
                    match finished {
                        Ok(waiters) => {
                            prop_assert!(in_time, "an old value would be stored");
                            back = waiters;
                        }
                        Err(refused) => {
                            prop_assert!(!in_time, "a good value was refused");
                            let was_voided = voided.contains_key(&permit.number);
                            prop_assert_eq!(refused.reason == RefusedReason::Voided, was_voided);
                            back = refused.waiters;
                        }
                    }
                    if let Some((_, _, waiters)) = voided.remove(&permit.number) {
                        expected_back = waiters;
                    } else if let Some(live) = live
                        && (in_time || live.by_service)
                    {
                        expected_back = live.line.iter().map(|(who, _)| *who).collect();
                        plain.remove(&k);
                    }
                }
                Step::GiveBack(which, next) if !permits.is_empty() => {
                    let permit = permits[which % permits.len()].clone();
                    let k = number_of(&permit.key);
                    let given = table.release(N, &permit.key, permit.number, next, at(now));
                    let in_time = plain
                        .get(&k)
                        .is_some_and(|flight| flight.number == permit.number && now < flight.ends);
                    prop_assert_eq!(given.is_ok(), in_time);
                    match given {
                        Ok(ReleaseOutcome::Turn(permit, waiter)) => {
                            prop_assert!(next);
                            pass_on(&mut plain, k, now, &mut expected);
                            plain.get_mut(&k).unwrap().number = permit.number;
                            turns.push((permit, waiter));
                        }
                        Ok(ReleaseOutcome::Failed(waiters)) => {
                            let line = plain.remove(&k).unwrap().line;
                            prop_assert!(!next || line.is_empty());
                            expected_back = line.iter().map(|(who, _)| *who).collect();
                            back = waiters;
                        }
                        Err(_) => {}
                    }
                }
                Step::Void(_) | Step::VoidAll | Step::VoidAllBut(_) => {
                    let which: Vec<u8> = match step {
                        Step::Void(k) => vec![k],
                        Step::VoidAllBut(k) => (0..3).filter(|other| *other != k).collect(),
                        _ => (0..3).collect(),
                    };
                    let done = match step {
                        Step::Void(k) => table.void(N, &name(k)),
                        Step::VoidAllBut(k) => table.void_where(N, |key| *key != name(k)),
                        _ => table.void_all(N),
                    };
                    let ended: Vec<(u8, Plain)> =
                        which.iter().filter_map(|k| Some((*k, plain.remove(k)?))).collect();
                    prop_assert_eq!(done.permits, ended.len());
                    back = done.waiters;
                    for (k, flight) in ended {
                        let waiters: Vec<u32> = flight.line.iter().map(|(who, _)| *who).collect();
                        let waiting = match flight.by_service {
                            true => waiters,
                            false => {
                                expected_back.extend(waiters);
                                Vec::new()
                            }
                        };
                        voided.insert(flight.number, (k, flight.ends, waiting));
                    }
                }
                Step::Expire => {
                    let expired = table.expire(at(now), LEASE);
                    turns = expired.turns;
                    back = expired.dropped;
                    let due: Vec<u8> =
                        plain.iter().filter(|(_, f)| f.ends <= now).map(|(k, _)| *k).collect();
                    for k in due {
                        if plain[&k].by_service {
                            let flight = plain.remove(&k).unwrap();
                            if !flight.line.is_empty() {
                                let permit = expired.refills.iter().find(|p| number_of(&p.key) == k);
                                let permit = permit.expect("somebody still waits");
                                let ends = now + LEASE.as_millis() as u64;
                                plain.insert(k, Plain { number: permit.number, ends, ..flight });
                            }
                        } else {
                            pass_on(&mut plain, k, now, &mut expected);
                        }
                    }
                    for (permit, _) in &turns {
                        plain.get_mut(&number_of(&permit.key)).unwrap().number = permit.number;
                    }
                    permits.extend(expired.refills);
                    let over: Vec<PermitNumber> =
                        voided.iter().filter(|(_, (_, ends, _))| *ends <= now).map(|(n, _)| *n).collect();
                    for number in over {
                        expected_back.extend(voided.remove(&number).unwrap().2);
                    }
                }
                Step::Leave(_) | Step::Finish(_) | Step::GiveBack(..) => {}
            }
            let mut said: Vec<(u32, u8)> =
                turns.iter().map(|(permit, who)| (*who, number_of(&permit.key))).collect();
            said.sort_unstable();
            expected.sort_unstable();
            prop_assert_eq!(said, expected);
            for (permit, who) in turns {
                prop_assert!(open.remove(&who), "a waiter came back twice");
                permits.push(permit);
            }
            back.sort_unstable();
            expected_back.sort_unstable();
            prop_assert_eq!(&back, &expected_back);
            for who in back {
                prop_assert!(open.remove(&who), "a waiter came back twice");
            }
            prop_assert_eq!((table.live(), table.waiters()), (plain.len(), open.len()));
        }
        // Time alone ends every wait.
        for _ in 0..200 {
            now += 120;
            let expired = table.expire(at(now), LEASE);
            expired.dropped.iter().chain(expired.turns.iter().map(|(_, who)| who)).for_each(|who| {
                open.remove(who);
            });
            // The service always finishes.
            for permit in expired.refills {
                for who in finish(&mut table, &permit, at(now + 1)).unwrap() {
                    open.remove(&who);
                }
            }
        }
        prop_assert!(open.is_empty(), "forgotten waiters: {open:?}");
        prop_assert_eq!((table.live(), table.waiters()), (0, 0));
    }
}

#[test]
fn permits_of_callers_are_bounded_by_namespace_and_voided_ones_altogether() {
    const OTHER: NamespaceId = NamespaceId(2);
    let permits = ShareLimits { in_all: 100, ..ShareLimits::each(3) };
    let few = RefillLimits { permits, voided: 2, ..Default::default() };
    let (mut table, mut turns) = (RefillTable::<char>::new(few, 0), Vec::new());
    let mut claim = |table: &mut RefillTable<char>, n, k: &str| {
        table.acquire(n, &key(k), &me(), at(0), LEASE, &mut turns)
    };
    let held: Vec<Permit> =
        ["a", "b", "c"].map(|k| claim(&mut table, N, k).unwrap()).into_iter().collect();
    assert_eq!(claim(&mut table, N, "d"), Err(AcquireRefused::Full));
    claim(&mut table, OTHER, "d").unwrap();
    // The service's own permits are bounded by those that wait, and by the origin.
    assert!(matches!(table.join(N, &key("d"), 'x', at(0), LEASE), JoinOutcome::Holder(_)));
    // Every end of a permit makes room for another.
    finish(&mut table, &held[0], at(1)).unwrap();
    claim(&mut table, N, "e").unwrap();
    table.release(N, &key("b"), held[1].number, true, at(1)).unwrap();
    claim(&mut table, N, "f").unwrap();
    table.void(N, &key("c"));
    claim(&mut table, N, "g").unwrap();
    assert_eq!(claim(&mut table, N, "h"), Err(AcquireRefused::Full));
    table.expire(at(100), LEASE);
    claim(&mut table, N, "h").unwrap();

    // One key that is acquired and deleted repeatedly: the latest two permits are remembered.
    let again: Vec<PermitNumber> = (0..100)
        .map(|_| {
            let permit = claim(&mut table, OTHER, "k").unwrap();
            table.void(OTHER, &key("k"));
            permit.number
        })
        .collect();
    let reasons = again
        .iter()
        .rev()
        .map(|number| table.release(OTHER, &key("k"), *number, true, at(1)).unwrap_err());
    let reasons: Vec<RefusedReason> = reasons.collect();
    assert_eq!(
        reasons[..3],
        [RefusedReason::Voided, RefusedReason::Voided, RefusedReason::Expired]
    );
    assert_eq!(table.views().count(), 2, "nothing else is left");
}

#[test]
fn permits_that_an_invalidation_voids_together_are_told_so_and_leave_bit_by_bit() {
    let permits = ShareLimits::each(100);
    let limits = RefillLimits { permits, voided: 1_000, ..Default::default() };
    let (mut table, mut turns) = (RefillTable::new(limits, 0), Vec::new());
    let mut claim = |table: &mut RefillTable<char>, k: &str| {
        table.acquire(N, &key(k), &me(), at(0), LEASE, &mut turns)
    };
    let first: Vec<Permit> = (0..100).map(|n| claim(&mut table, &n.to_string()).unwrap()).collect();
    table.wait(N, &key("7"), &me(), 'w', LEASE).unwrap();
    assert_eq!(claim(&mut table, "more"), Err(AcquireRefused::Full));
    let voided = table.void_all(N);
    assert_eq!((voided.permits, voided.waiters), (100, vec!['w']));
    assert_eq!((table.live(), table.views().count(), table.void_all(N).permits), (0, 0, 0));
    assert!(table.oldest(|_| true, 10).is_empty() && table.over(at(1_000)).next().is_none());
    // As many can be granted again right away, and the work of settling is bounded.
    for n in 0..100 {
        claim(&mut table, &n.to_string()).unwrap();
        assert_eq!(table.live(), n + 1);
    }
    let oldest = table.oldest(|namespace| namespace == N, 2);
    assert_eq!(oldest.len(), 2);
    assert!(oldest.iter().all(|view| view.permit.number > first[99].number));
    // Every holder learns why its value is not stored; the live permits are unaffected.
    for permit in &first {
        assert_eq!(finish(&mut table, permit, at(1)).unwrap_err().reason, RefusedReason::Voided);
    }
    assert_eq!(table.live(), 100);
    let expired = table.expire(at(100), LEASE);
    assert_eq!((expired.turns.len(), expired.refills.len(), table.live()), (0, 0, 0));
    assert_eq!(table.next_moment(), None);
}
