use std::time::Duration;

use proptest::prelude::*;

use super::super::lock::tests::cases;

use super::model::{Model, Step};
use super::*;
use crate::guard::lock::AccessId;
use crate::guard::share::ShareLimits;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

pub(super) const N: NamespaceId = NamespaceId(1);
pub(super) const LEASE: Duration = Duration::from_millis(100);

pub(super) fn key(text: &str) -> Key {
    Key::new(text).unwrap()
}

pub(super) fn limits(waiters: usize) -> RefillLimits {
    RefillLimits { waiters, ..Default::default() }
}

pub(super) fn me() -> Refiller {
    with_access(1)
}

fn with_access(access: u64) -> Refiller {
    Refiller { owner: "a test".into(), access: Some(AccessId(access)) }
}

pub(super) fn at(millis: u64) -> Timestamp {
    Timestamp::from_millis(millis)
}

pub(super) fn finish<W>(
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
fn a_late_holder_is_refused_and_its_waiters_follow_the_new_holder() {
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
fn an_invalidation_voids_the_permit_and_later_callers_get_a_new_one() {
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
fn the_permit_passes_on_until_a_caller_stores_the_value() {
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
fn a_permit_may_be_left_to_the_service() {
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
fn revoked_access_ends_its_permits_and_waits_only() {
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

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    /// Promises 2 and 3 over random schedules, step by step beside the plain reading of the rules:
    /// at most one permit is live for a key, a value is accepted only when nothing voided or
    /// outlived its permit, turns come in order, and every waiter is returned exactly once.
    #[test]
    fn permits_match_the_model(
        steps in prop::collection::vec(Step::any(), 1..60),
    ) {
        let mut model = Model::new();
        steps.into_iter().for_each(|step| model.take(step));
        model.end();
    }
}

#[test]
fn live_permits_are_bounded_per_namespace_and_voided_ones_in_all() {
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
fn voided_permits_are_notified_and_removed_in_steps() {
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
