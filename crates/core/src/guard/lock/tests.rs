use std::time::Duration;

use proptest::prelude::*;

use super::model::{Beside, Step};
use super::*;
use crate::guard::ShareLimits;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

const N: NamespaceId = NamespaceId(1);

pub(super) fn counted<W>(table: &LockTable<W>) -> (usize, usize) {
    let LockCounts { held, queued } = table.counts();
    (held, queued)
}

pub(super) fn at(millis: u64) -> Timestamp {
    Timestamp::from_millis(millis)
}

pub(super) fn name(text: &str) -> LockName {
    (N, Key::new(text).unwrap())
}

pub(super) fn request(owner: &str, lease: u64, wait: u64) -> AcquireRequest {
    let [lease, wait] = [lease, wait].map(Duration::from_millis);
    AcquireRequest { owner: owner.into(), lease, wait, session: None, access: None }
}

fn table() -> LockTable<u32> {
    let mut table = LockTable::new(ShareLimits::each(1_000));
    table.begin_epoch(7);
    table
}

fn granted<W>(outcome: LockOutcome<W>) -> Grant {
    match outcome {
        LockOutcome::Granted(grant, _) => grant,
        _ => panic!("it is not granted"),
    }
}

#[test]
fn a_lock_passes_on_in_request_order() {
    let (mut table, mut notices, berth) = (table(), Vec::new(), name("berth-7"));
    let first =
        granted(table.acquire(&berth, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    for waiter in 1..=3 {
        let asked = table.acquire(
            &berth,
            request("b", 100, 1_000),
            waiter,
            at(waiter.into()),
            &mut notices,
        );
        assert!(matches!(asked, Ok(LockOutcome::Queued(_))));
    }
    let refused = table.acquire(&berth, request("c", 100, 0), 4, at(5), &mut notices).unwrap();
    assert!(matches!(refused, LockOutcome::HeldByOther(holder, 4) if holder.owner == "a"));
    table.release(&berth, first.token, at(10), &mut notices).unwrap();
    table.advance(at(110), &mut notices);
    table.force_release(&berth, at(120), &mut notices).unwrap();
    let order: Vec<(u32, Timestamp)> = notices
        .iter()
        .filter_map(|notices| match notices {
            LockNotice::Granted(waiter, grant) => Some((*waiter, grant.ends_at)),
            LockNotice::TimedOut(..) => panic!("nobody timed out"),
            LockNotice::Ended(..) => None,
        })
        .collect();
    let ends: Vec<LeaseEnd> = notices
        .iter()
        .filter_map(|t| if let LockNotice::Ended(.., by) = t { Some(*by) } else { None })
        .collect();
    assert_eq!(ends, [LeaseEnd::Release, LeaseEnd::Time, LeaseEnd::Force]);
    assert_eq!(order, [(1, at(110)), (2, at(210)), (3, at(220))]);
}

#[test]
fn without_an_epoch_no_lock_is_granted_and_epochs_only_grow() {
    let (mut table, mut notices, berth) =
        (LockTable::new(ShareLimits::each(10)), Vec::new(), name("berth-7"));
    let refused = table.acquire(&berth, request("a", 100, 0), 0, at(0), &mut notices).unwrap_err();
    assert_eq!((refused, table.needs_epoch()), (AcquireError::NoEpoch, true));
    table.begin_epoch(3);
    let first =
        granted(table.acquire(&berth, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    table.begin_epoch(2);
    let second = name("berth-8");
    let second =
        granted(table.acquire(&second, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    assert!(second.token > first.token && !table.needs_epoch());
    table.begin_epoch(4);
    let third = name("berth-9");
    let third =
        granted(table.acquire(&third, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    assert!(third.token > second.token);
    assert_eq!(third.token.number() >> 32, 4);
}

#[test]
fn no_lock_is_granted_or_renewed_after_the_lease_of_the_node() {
    let (mut table, mut notices, berth) = (table(), Vec::new(), name("berth-7"));
    table.give_until(Some(at(100)));
    let held =
        granted(table.acquire(&berth, request("a", 500, 0), 0, at(99), &mut notices).unwrap());
    table.renew(&berth, held.token, Duration::from_millis(500), at(99), &mut notices).unwrap();
    table.acquire(&berth, request("b", 500, 900), 1, at(99), &mut notices).unwrap();
    // One millisecond later.
    let other = name("berth-8");
    let refused =
        table.acquire(&other, request("c", 500, 0), 2, at(100), &mut notices).unwrap_err();
    assert_eq!(refused, AcquireError::Unconfirmed);
    let renewed = table.renew(&berth, held.token, Duration::from_millis(9), at(100), &mut notices);
    assert_eq!(renewed, Err(NotHeld::Unconfirmed { token: held.token }));
    assert!(notices.is_empty());
    // A lease may be released without a next holder; its queue is kept.
    table.release(&berth, held.token, at(100), &mut notices).unwrap();
    assert!(
        matches!(&notices[..], [LockNotice::Ended(..), LockNotice::TimedOut(1, _)]),
        "{notices:?}"
    );
    assert_eq!(counted(&table), (0, 0));
    table.give_until(Some(at(200)));
    let next =
        granted(table.acquire(&berth, request("d", 5, 0), 3, at(199), &mut notices).unwrap());
    assert!(next.token > held.token);
    table.give_until(None);
    granted(table.acquire(&other, request("e", 5, 0), 4, at(9_999), &mut notices).unwrap());
}

#[test]
fn the_end_of_an_epoch_ends_all_leases_and_waits() {
    let (mut table, mut notices, berth) = (table(), Vec::new(), name("berth-7"));
    let held =
        granted(table.acquire(&berth, request("a", 500, 0), 0, at(0), &mut notices).unwrap());
    table.acquire(&berth, request("b", 500, 900), 1, at(0), &mut notices).unwrap();
    table.end_epoch();
    table.end_all();
    assert_eq!(
        (counted(&table), table.next_moment(), table.taken.namespaces().count()),
        ((0, 0), None, 0)
    );
    let renewed = table.renew(&berth, held.token, Duration::from_secs(1), at(1), &mut notices);
    assert_eq!(renewed, Err(NotHeld::Free { token: held.token }));
    table.begin_epoch(7);
    assert!(table.needs_epoch(), "an ended session does not begin again");
    table.begin_epoch(8);
    let next = granted(table.acquire(&berth, request("c", 5, 0), 2, at(1), &mut notices).unwrap());
    assert!(next.token > held.token);
}

#[test]
fn leases_and_waits_are_bounded_per_namespace() {
    let (mut table, mut notices) = (LockTable::new(ShareLimits::each(3)), Vec::new());
    table.begin_epoch(1);
    for n in 0..2 {
        granted(
            table
                .acquire(&name(&n.to_string()), request("a", 100, 0), 0, at(0), &mut notices)
                .unwrap(),
        );
    }
    let waiting = table.acquire(&name("0"), request("b", 100, 50), 1, at(0), &mut notices).unwrap();
    let LockOutcome::Queued(ticket) = waiting else { panic!() };
    let full = table.acquire(&name("2"), request("a", 100, 0), 0, at(0), &mut notices).unwrap_err();
    assert_eq!(full, AcquireError::Full(3));
    let other = (NamespaceId(2), Key::new("0").unwrap());
    granted(table.acquire(&other, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    assert!(table.leave(&name("0"), ticket) && !table.leave(&name("0"), ticket));
    granted(table.acquire(&name("2"), request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    assert!(!table.end_namespace(N));
    assert_eq!((counted(&table), table.namespaces()), ((1, 0), vec![other.0]));
    assert_eq!(table.longest_held(other.0, 9).len(), 1);
}

#[test]
fn an_expired_lease_cannot_be_renewed_and_names_the_new_holder() {
    let (mut table, mut notices, berth) = (table(), Vec::new(), name("berth-7"));
    let first =
        granted(table.acquire(&berth, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    let lease = Duration::from_millis(100);
    assert_eq!(table.renew(&berth, first.token, lease, at(99), &mut notices), Ok(at(199)));
    table.advance(at(100), &mut notices);
    assert!(table.peek(&berth, at(198)).is_some(), "it was renewed");
    let free = table.renew(&berth, first.token, lease, at(199), &mut notices).unwrap_err();
    assert_eq!(free, NotHeld::Free { token: first.token });
    let second =
        granted(table.acquire(&berth, request("b", 100, 0), 0, at(200), &mut notices).unwrap());
    let other = table.release(&berth, first.token, at(201), &mut notices).unwrap_err();
    let owner = "b".to_owned();
    assert_eq!(other, NotHeld::Other { token: first.token, owner, now: second.token });
}

/// How many random schedules are tried; `VERAX_PROPERTY_CASES` sets more.
pub(crate) fn cases() -> u32 {
    let set = std::env::var("VERAX_PROPERTY_CASES").ok();
    set.and_then(|text| text.parse().ok()).unwrap_or(10_000)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    /// Promise 4 over random schedules, step by step beside the plain reading of the rules: who is
    /// granted what, who times out, in which order; tokens only grow; nobody is notified twice.
    #[test]
    fn locks_match_the_model(steps in prop::collection::vec(Step::any(), 1..50)) {
        let mut beside = Beside::new();
        for step in steps {
            beside.step(step)?;
        }
        beside.end()?;
    }
}

#[test]
fn an_ended_epoch_is_followed_only_by_a_larger_one() {
    let (mut table, mut notices) = (LockTable::new(ShareLimits::each(10)), Vec::new());
    let mut ask = |table: &mut LockTable<u32>| {
        let name = (NamespaceId(1), Key::new("gate").unwrap());
        let outcome = table.acquire(&name, request("a", 1, 0), 0, at(1), &mut notices);
        table.end_namespace(NamespaceId(1));
        outcome.map(|outcome| match outcome {
            LockOutcome::Granted(grant, _) => grant.token.number() >> 32,
            other => panic!("{other:?}"),
        })
    };
    table.begin_epoch(3);
    assert_eq!(ask(&mut table), Ok(3));
    table.end_epoch();
    assert_eq!(ask(&mut table), Err(AcquireError::NoEpoch));
    table.begin_epoch(3);
    assert_eq!(ask(&mut table), Err(AcquireError::NoEpoch));
    table.begin_epoch(4);
    assert_eq!(ask(&mut table), Ok(4));
}

#[test]
fn a_request_of_an_ended_connection_is_refused() {
    let (mut table, mut notices, berth) = (table(), Vec::new(), name("berth-7"));
    let by = |session, wait| AcquireRequest {
        session: Some(SessionId(session)),
        ..request("a", 100, wait)
    };
    let refused = table.acquire(&berth, by(1, 0), 0, at(0), &mut notices).unwrap_err();
    assert_eq!(refused, AcquireError::Disconnected, "it has not begun");
    table.connect(SessionId(1));
    granted(table.acquire(&berth, by(1, 0), 0, at(0), &mut notices).unwrap());
    table.disconnect(SessionId(1), at(1), &mut notices);
    // In flight while the connection ended, with and without waiting.
    for wait in [0, 100] {
        let refused = table.acquire(&berth, by(1, wait), 0, at(1), &mut notices).unwrap_err();
        assert_eq!(refused, AcquireError::Disconnected);
    }
    assert_eq!(counted(&table), (0, 0));
    granted(table.acquire(&berth, request("b", 100, 0), 0, at(1), &mut notices).unwrap());
}

#[test]
fn revoked_access_ends_leases_and_waits() {
    let (mut table, mut notices) = (LockTable::new(ShareLimits::each(10)), Vec::new());
    table.begin_epoch(1);
    let name = (NamespaceId(1), Key::new("gate").unwrap());
    let by = |owner: &str, access| AcquireRequest {
        access: Some(AccessId(access)),
        ..request(owner, 100, 100)
    };
    for (waiter, access) in [(1, 7), (2, 7), (3, 8)] {
        table.acquire(&name, by("x", access), waiter, at(1), &mut notices).unwrap();
    }
    table.withdraw(AccessId(7), at(2), &mut notices);
    let [LockNotice::Ended(_, holder, LeaseEnd::Withdrawal), LockNotice::Granted(3, grant)] =
        &notices[..]
    else {
        panic!("{notices:?}")
    };
    assert!(grant.token > holder.token);
    assert_eq!(counted(&table), (1, 0));
    notices.clear();
    table.withdraw(AccessId(9), at(3), &mut notices);
    assert_eq!((notices.len(), counted(&table)), (0, (1, 0)));
}

/// A long queue whose callers arrive, time out and leave at different moments costs little for
/// each; what is shown of it is bounded.
#[test]
fn a_long_queue_is_counted_in_full_and_listed_in_part() {
    let (mut table, mut notices) = (LockTable::new(ShareLimits::each(10_000)), Vec::new());
    table.begin_epoch(1);
    let name = (NamespaceId(1), Key::new("berth-7").unwrap());
    let request = |wait| AcquireRequest {
        owner: "pilot".into(),
        lease: Duration::from_secs(60),
        wait: Duration::from_millis(wait),
        session: None,
        access: Some(AccessId(wait % 7)),
    };
    table.acquire(&name, request(0), 0, at(0), &mut notices).unwrap();
    let mut tickets = Vec::new();
    for n in 1..=5_000 {
        let waiting = table.acquire(&name, request(n), n, at(0), &mut notices).unwrap();
        let LockOutcome::Queued(ticket) = waiting else { panic!("{waiting:?}") };
        tickets.push(ticket);
    }
    let view = table.peek(&name, at(1_000)).unwrap();
    assert_eq!((view.queued, view.queue.len()), (4_000, 100));
    for millis in 1..=1_000 {
        assert_eq!(table.next_moment(), Some(at(millis)));
        table.advance(at(millis), &mut notices);
    }
    assert_eq!(notices.len(), 1_000, "one by one");
    assert!(tickets[4_000..].iter().all(|ticket| table.leave(&name, *ticket)));
    assert!(!table.leave(&name, tickets[0]));
    assert_eq!(counted(&table), (1, 3_000));
    // Nothing of an access that ends is left; the others keep waiting.
    let mut steps = 0;
    while table.withdraw(AccessId(3), at(1_000), &mut notices) {
        steps += 1;
    }
    assert!(steps > 0, "others have their turn meanwhile");
    let of_it = (1_001..=4_000).filter(|n| n % 7 == 3).count();
    assert_eq!(counted(&table), (1, 3_000 - of_it));
    while table.end_namespace(NamespaceId(1)) {
        steps += 1;
    }
    assert!(steps > 5, "{steps}");
    assert_eq!(
        (counted(&table), table.next_moment(), table.taken.namespaces().count()),
        ((0, 0), None, 0)
    );
}

#[test]
fn mass_expiry_ends_leases_in_steps_and_passes_locks_to_live_waiters() {
    let (mut table, mut notices, berth) =
        (LockTable::new(ShareLimits::each(20_000)), Vec::new(), name("berth-7"));
    table.begin_epoch(1);
    let first =
        granted(table.acquire(&berth, request("a", 100, 0), 0, at(0), &mut notices).unwrap());
    for waiter in 1..=1_000 {
        table.acquire(&berth, request("b", 100, 50), waiter, at(0), &mut notices).unwrap();
    }
    table.acquire(&berth, request("c", 100, 500), 1_001, at(0), &mut notices).unwrap();
    // Until all timed-out callers have left the queue, the lock is granted to nobody; its former
    // holder has lost it.
    assert!(table.advance(at(120), &mut notices));
    assert!(
        notices.len() < 1_000
            && notices.iter().all(|notices| matches!(notices, LockNotice::TimedOut(..)))
    );
    let renewed = table.renew(&berth, first.token, Duration::from_secs(1), at(120), &mut notices);
    assert_eq!(renewed, Err(NotHeld::Free { token: first.token }));
    let now = table.acquire(&berth, request("d", 100, 0), 1_002, at(120), &mut notices).unwrap();
    assert!(matches!(now, LockOutcome::HeldByOther(..)), "{now:?}");
    while table.advance(at(120), &mut notices) {}
    let gave_up =
        notices.iter().filter(|notices| matches!(notices, LockNotice::TimedOut(..))).count();
    assert_eq!(gave_up, 1_000);
    assert!(matches!(notices.last(), Some(LockNotice::Granted(1_001, _))), "{:?}", notices.last());
    // Many leases that end together also end in steps.
    for n in 0..1_000 {
        let name = name(&n.to_string());
        granted(table.acquire(&name, request("e", 100, 0), 0, at(121), &mut notices).unwrap());
    }
    notices.clear();
    assert!(table.advance(at(300), &mut notices));
    assert!(notices.len() < 1_000);
    while table.advance(at(300), &mut notices) {}
    assert_eq!((notices.len(), counted(&table)), (1_001, (0, 0)));
}

#[test]
fn views_are_bounded_and_show_the_longest_leases() {
    let (mut table, mut notices) = (LockTable::new(ShareLimits::each(10_000)), Vec::new());
    table.begin_epoch(1);
    for n in 0..300u64 {
        let name = (NamespaceId(n % 3), Key::new(format!("berth-{n}")).unwrap());
        let request = AcquireRequest {
            owner: "pilot".into(),
            lease: Duration::from_secs(60),
            wait: Duration::ZERO,
            session: None,
            access: None,
        };
        table.acquire(&name, request, n, at(n), &mut notices).unwrap();
    }
    let longest = table.longest_held(NamespaceId(1), 3);
    let names: Vec<&str> = longest.iter().map(|(_, name)| name.1.as_str()).collect();
    assert_eq!(names, ["berth-1", "berth-4", "berth-7"]);
    let all = table.namespaces().into_iter().map(|of| table.longest_held(of, 1_000).len());
    assert_eq!(all.sum::<usize>(), 300);
}
