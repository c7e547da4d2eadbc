use std::collections::{BTreeMap, HashSet};

use proptest::prelude::*;

use std::time::Duration;

use super::*;
use crate::guard::ShareLimits;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

const N: NamespaceId = NamespaceId(1);

fn counted<W>(table: &LockTable<W>) -> (usize, usize) {
    let LockCounts { held, queued } = table.counts();
    (held, queued)
}

fn at(millis: u64) -> Timestamp {
    Timestamp::from_millis(millis)
}

fn name(text: &str) -> LockName {
    (N, Key::new(text).unwrap())
}

fn request(owner: &str, lease: u64, wait: u64) -> AcquireRequest {
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
fn a_lock_goes_from_hand_to_hand_in_the_order_of_asking() {
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
fn without_an_epoch_nothing_is_given_and_a_new_one_only_grows() {
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
fn nothing_is_given_or_renewed_from_the_moment_that_somebody_else_may_give() {
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
fn all_holds_and_waits_end_together_and_a_later_epoch_begins_anew() {
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
fn holds_and_waits_of_a_namespace_are_bounded_and_others_are_not_touched() {
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
fn what_is_over_cannot_be_renewed_and_says_who_has_it_now() {
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

#[derive(Debug, Clone)]
enum Step {
    Acquire { lock: u8, lease: u8, wait: u8, session: Option<u8> },
    Renew { which: usize, lease: u8 },
    Release(usize),
    Force(u8),
    Leave(usize),
    Disconnect(u8),
    Advance,
    Pass(u8),
    Epoch,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => (0..3u8, 1..60u8, prop_oneof![1 => Just(0u8), 4 => 1..90u8], prop::option::of(0..3u8))
            .prop_map(|(lock, lease, wait, session)| Step::Acquire { lock, lease, wait, session }),
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

/// A lock by the plain reading of the rules: a holder and a queue.
#[derive(Debug, Default, Clone)]
struct Plain {
    held: Option<(u32, u64, Option<u8>)>,
    queue: Vec<(u32, u64, u64, Option<u8>)>,
}

/// What a caller learned, by its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Heard {
    Granted(u64),
    TimedOut,
}

impl Plain {
    /// Grants the lock to the first queued caller.
    fn pass_on(&mut self, now: u64, heard: &mut Vec<(u32, Heard)>) {
        self.held = None;
        if !self.queue.is_empty() {
            let (who, lease, _, session) = self.queue.remove(0);
            self.held = Some((who, now + lease, session));
            heard.push((who, Heard::Granted(now + lease)));
        }
    }

    fn settle(&mut self, now: u64, heard: &mut Vec<(u32, Heard)>) {
        let Some((_, ends, _)) = self.held else { return };
        let due = |(_, _, gives_up, _): &(u32, u64, u64, Option<u8>)| *gives_up <= now;
        if ends > now && !self.queue.iter().any(due) {
            return;
        }
        let until = ends.min(now);
        self.queue.retain(|(who, _, gives_up, _)| {
            let stays = *gives_up > until;
            if !stays {
                heard.push((*who, Heard::TimedOut));
            }
            stays
        });
        if ends <= now {
            self.pass_on(now, heard);
        }
        self.settle(now, heard);
    }
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
    fn locks_follow_the_plain_rules(steps in prop::collection::vec(step(), 1..50)) {
        let mut table = LockTable::new(ShareLimits::each(1_000));
        let (mut epoch, mut now, mut callers) = (1, 0u64, 0u32);
        table.begin_epoch(epoch);
        let mut plain: BTreeMap<u8, Plain> = BTreeMap::new();
        // Callers that were granted something, by their number: lock and token.
        let mut grants: Vec<(u32, u8, FencingToken)> = Vec::new();
        let mut tickets: Vec<(u32, u8, Ticket)> = Vec::new();
        let (mut last, mut answered) = (FencingToken(0), HashSet::new());
        let session = |id: u8| SessionId(id.into());
        (0..3).for_each(|id| table.connect(session(id)));
        let of = |lock: u8| name(&lock.to_string());
        for step in steps {
            let (mut notices, mut heard) = (Vec::new(), Vec::new());
            match step {
                Step::Pass(time) => now += u64::from(time),
                Step::Epoch => {
                    epoch += 1;
                    table.begin_epoch(epoch);
                }
                Step::Advance => {
                    table.advance(at(now), &mut notices);
                    plain.values_mut().for_each(|lock| lock.settle(now, &mut heard));
                    if let Some(next) = table.next_moment() {
                        prop_assert!(next > at(now), "what is due stays undone");
                    }
                }
                Step::Acquire { lock, lease, wait, session: of_session } => {
                    callers += 1;
                    let mut asked = request("x", lease.into(), wait.into());
                    asked.session = of_session.map(session);
                    let outcome = table.acquire(&of(lock), asked, callers, at(now), &mut notices).unwrap();
                    let model = plain.entry(lock).or_default();
                    model.settle(now, &mut heard);
                    match (outcome, model.held) {
                        (LockOutcome::Granted(grant, _), None) => {
                            prop_assert!(grant.token > last, "tokens only grow");
                            last = grant.token;
                            prop_assert_eq!(grant.ends_at, at(now + u64::from(lease)));
                            grants.push((callers, lock, grant.token));
                            model.held = Some((callers, now + u64::from(lease), of_session));
                        }
                        (LockOutcome::Queued(ticket), Some(_)) if wait > 0 => {
                            let gives_up = now + u64::from(wait);
                            model.queue.push((callers, lease.into(), gives_up, of_session));
                            tickets.push((callers, lock, ticket));
                        }
                        (LockOutcome::HeldByOther(_, waiter), Some(_)) if wait == 0 => {
                            prop_assert_eq!(waiter, callers);
                        }
                        other => prop_assert!(false, "{:?}", other),
                    }
                }
                Step::Renew { which, lease } if !grants.is_empty() => {
                    let (who, lock, token) = grants[which % grants.len()];
                    let lease = u64::from(lease);
                    let renewed =
                        table.renew(&of(lock), token, Duration::from_millis(lease), at(now), &mut notices);
                    let model = plain.entry(lock).or_default();
                    model.settle(now, &mut heard);
                    match &mut model.held {
                        Some((holder, ends, _)) if *holder == who => {
                            *ends = now + lease;
                            prop_assert_eq!(renewed, Ok(at(*ends)));
                        }
                        _ => prop_assert!(renewed.is_err()),
                    }
                }
                Step::Release(which) if !grants.is_empty() => {
                    let (who, lock, token) = grants[which % grants.len()];
                    let released = table.release(&of(lock), token, at(now), &mut notices);
                    let model = plain.entry(lock).or_default();
                    model.settle(now, &mut heard);
                    let holds = model.held.is_some_and(|(holder, ..)| holder == who);
                    prop_assert_eq!(released.is_ok(), holds);
                    if holds {
                        model.pass_on(now, &mut heard);
                    }
                }
                Step::Force(lock) => {
                    let forced = table.force_release(&of(lock), at(now), &mut notices);
                    let model = plain.entry(lock).or_default();
                    model.settle(now, &mut heard);
                    prop_assert_eq!(forced.is_some(), model.held.is_some());
                    if forced.is_some() {
                        model.pass_on(now, &mut heard);
                    }
                }
                Step::Leave(which) if !tickets.is_empty() => {
                    let (who, lock, ticket) = tickets[which % tickets.len()];
                    let left = table.leave(&of(lock), ticket);
                    let model = plain.entry(lock).or_default();
                    let before = model.queue.len();
                    model.queue.retain(|(waiting, ..)| *waiting != who);
                    prop_assert_eq!(left, model.queue.len() < before);
                    answered.insert(who);
                }
                Step::Disconnect(id) => {
                    table.disconnect(session(id), at(now), &mut notices);
                    table.connect(session(id));
                    // The locks of the session, in the order of their leases.
                    let mut order: Vec<(u32, u8)> = plain
                        .iter()
                        .filter(|(_, model)| {
                            model.held.is_some_and(|(_, _, s)| s == Some(id))
                                || model.queue.iter().any(|(.., s)| *s == Some(id))
                        })
                        .filter_map(|(lock, model)| Some((model.held?.0, *lock)))
                        .collect();
                    let token = |who: u32| grants.iter().find(|(w, ..)| *w == who).map(|g| g.2);
                    order.sort_by_key(|(who, _)| token(*who));
                    for (_, lock) in order {
                        let model = plain.get_mut(&lock).unwrap();
                        model.settle(now, &mut heard);
                        model.queue.retain(|(who, _, _, s)| {
                            if *s == Some(id) {
                                answered.insert(*who);
                            }
                            *s != Some(id)
                        });
                        if model.held.is_some_and(|(_, _, s)| s == Some(id)) {
                            model.pass_on(now, &mut heard);
                        }
                    }
                }
                Step::Renew { .. } | Step::Release(_) | Step::Leave(_) => {}
            }
            let mut said = Vec::new();
            for notices in notices {
                match notices {
                    LockNotice::Granted(who, grant) => {
                        prop_assert!(grant.token > last, "tokens only grow");
                        last = grant.token;
                        let lock: u8 = grant.name.1.as_str().parse().unwrap();
                        grants.push((who, lock, grant.token));
                        said.push((who, Heard::Granted(grant.ends_at.as_millis())));
                    }
                    LockNotice::TimedOut(who, _) => said.push((who, Heard::TimedOut)),
                    LockNotice::Ended(..) => {}
                }
            }
            for (who, _) in &said {
                prop_assert!(answered.insert(*who), "{} is notified twice, or after it left", who);
            }
            // Locks are independent, so the rules fix only the order within one.
            said.sort_by_key(|(who, _)| *who);
            heard.sort_by_key(|(who, _)| *who);
            prop_assert_eq!(&said, &heard);
            let waiting: usize = plain.values().map(|model| model.queue.len()).sum();
            let held = plain.values().filter(|model| model.held.is_some()).count();
            prop_assert_eq!(counted(&table), (held, waiting));
        }
        // Time alone ends every lease and every wait.
        let mut notices = Vec::new();
        for _ in 0..200 {
            now += 60;
            table.advance(at(now), &mut notices);
        }
        prop_assert_eq!((counted(&table), table.next_moment()), ((0, 0), None));
        prop_assert!(table.namespaces().is_empty(), "places are left over");
    }
}

#[test]
fn an_epoch_that_ended_is_followed_by_a_larger_one_alone() {
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
fn a_claim_of_a_connection_that_has_ended_is_refused() {
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
fn access_that_is_withdrawn_ends_holds_and_waits() {
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
fn a_long_queue_is_counted_whole_and_shown_in_part() {
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
fn many_that_are_over_at_once_end_in_steps_and_the_lock_goes_to_one_that_is_still_there() {
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
fn views_are_bounded_and_show_the_longest_holds() {
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
