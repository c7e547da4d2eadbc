//! Locks and permits of the real service, with callers that go away at any moment.

use std::sync::Arc;
use std::time::Duration;

use rstest::rstest;
use tokio::task::JoinSet;
use verax_core::PermitNumber;
use verax_core::Precondition;
use verax_engine::EngineError;
use verax_engine::cache::{PermitOutcome, PermitRequest, RefillCounts};
use verax_engine::locks::{LockCounts, LockRequest};
use verax_service::{Service, ServiceOptions};

use crate::fixture::{Fixture, Opened, key, name, until, value};

async fn started() -> (Fixture, Opened) {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    fixture.namespace("quayside", "berths", None).await;
    let berths = fixture.opened("quayside/berths");
    (fixture, berths)
}

fn lock(lease: u64, wait: u64) -> LockRequest {
    let [lease, wait] = [lease, wait].map(Duration::from_millis);
    LockRequest { owner: "a test".into(), lease, wait, session: None, access: None }
}

fn permit(lease: u64, wait: u64) -> PermitRequest {
    let [lease, wait] = [lease, wait].map(Duration::from_millis);
    PermitRequest {
        owner: "a test".into(),
        wait,
        lease,
        stale: false,
        refresh: false,
        access: None,
    }
}

/// Starts many callers and takes a third of them away again, each at another moment.
async fn many<F: Future<Output = ()> + Send + 'static>(call: impl Fn(usize) -> F) {
    let mut callers = JoinSet::new();
    let mut handles = Vec::new();
    for n in 0..300 {
        handles.push(callers.spawn(call(n)));
        if n.is_multiple_of(3) {
            tokio::task::yield_now().await;
            handles[n / 2].abort();
        }
    }
    while let Some(ended) = callers.join_next().await {
        assert!(ended.is_ok() || ended.is_err_and(|e| e.is_cancelled()), "nobody panics");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn vanished_callers_leave_no_lock_and_no_queue() {
    let (fixture, berths) = started().await;
    let call = |n: usize| {
        let berths = berths.clone();
        async move {
            let name = key(&format!("berth-{}", n % 3));
            let claimed = berths.locker.acquire_lock(&name, lock(60_000, 60_000)).await;
            let grant = claimed.unwrap().granted().unwrap();
            tokio::task::yield_now().await;
            // It may have been forced open meanwhile.
            let _ = berths.locker.release_lock(&name, grant.token);
        }
    };
    // Those that vanish while they hold leave their lease behind, which is ended by force here.
    let service = Arc::clone(&fixture.service);
    let places = (name("quayside"), name("berths"));
    let forcing = tokio::spawn({
        let (service, admin) = (Arc::clone(&service), fixture.admin.clone());
        async move {
            loop {
                tokio::time::sleep(Duration::from_millis(20)).await;
                for n in 0..3 {
                    let name = key(&format!("berth-{n}"));
                    let place = (&places.0, &places.1);
                    service.control().force_release_lock(&admin, place, &name).await.unwrap();
                }
            }
        }
    });
    many(call).await;
    until("everything is free", async || service.engine().lock_counts() == LockCounts::default())
        .await;
    forcing.abort();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn vanished_callers_leave_no_permit_and_no_waiter() {
    let (fixture, berths) = started().await;
    let call = |n: usize| {
        let berths = berths.clone();
        async move {
            let key = key(&format!("k{}", n % 3));
            match berths.refiller.acquire_permit(&key, permit(300, 60_000)).await.unwrap() {
                PermitOutcome::Value(answer) => assert_eq!(&answer.entry.value[..], b"v"),
                PermitOutcome::Later(_) => panic!("the wait is long enough for everybody"),
                PermitOutcome::Permit(permit) if n.is_multiple_of(2) => {
                    // It fails, and the next in the queue has its turn.
                    let _ = berths.writer.release_permit(&key, permit.number, true);
                }
                PermitOutcome::Permit(permit) => {
                    tokio::task::yield_now().await;
                    let _ = berths.writer.store_with_permit(&key, permit.number, value("v"));
                }
            }
        }
    };
    many(call).await;
    // Permits of holders that vanished expire.
    until("no permit is left", async || {
        fixture.service.engine().refills() == RefillCounts::default()
    })
    .await;
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn deleting_a_namespace_ends_its_waits() {
    let (fixture, berths) = started().await;
    let service = Arc::clone(&fixture.service);
    let held =
        berths.locker.acquire_lock(&key("7"), lock(60_000, 0)).await.unwrap().granted().unwrap();
    let waiting = tokio::spawn({
        let berths = berths.clone();
        async move { berths.locker.acquire_lock(&key("7"), lock(60_000, 60_000)).await }
    });
    until("it waits", async || service.engine().lock_counts() == LockCounts { held: 1, queued: 1 })
        .await;
    let (tenant, namespace) = (name("quayside"), name("berths"));
    service.control().delete_namespace(&fixture.admin, &tenant, &namespace).await.unwrap();
    assert_eq!(waiting.await.unwrap().unwrap_err(), EngineError::NamespaceGone);
    let late = berths.locker.renew_lock(&key("7"), held.token, Duration::from_secs(5));
    assert!(matches!(late, Err(EngineError::NotHeld(_))));
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_trace_records_holders_and_outcomes() {
    let (fixture, berths) = started().await;
    let service: &Arc<Service> = &fixture.service;
    let ask = async || match berths
        .refiller
        .acquire_permit(&key("k"), permit(60_000, 0))
        .await
        .unwrap()
    {
        PermitOutcome::Permit(permit) => permit.number,
        other => panic!("{other:?}"),
    };
    let voided = ask().await;
    berths.deleter.delete(&key("k"), Precondition::Always, None).await.unwrap();
    let refused = berths.writer.store_with_permit(&key("k"), voided, value("old"));
    assert!(matches!(refused, Err(EngineError::Permit(_))), "{refused:?}");
    let failed = ask().await;
    berths.writer.release_permit(&key("k"), failed, false).unwrap();
    let stored = ask().await;
    berths.writer.store_with_permit(&key("k"), stored, value("new")).unwrap();
    let long_over = PermitNumber(12);
    berths.writer.store_with_permit(&key("k"), long_over, value("late")).unwrap_err();
    let records: Vec<(String, String)> = service
        .control()
        .recent_refills(&berths.reader)
        .into_iter()
        .rev()
        .map(|record| (record.holder, format!("{:?}", record.outcome)))
        .collect();
    let expected = [
        ("a test", "Voided"),
        ("a test", "Failed"),
        ("a test", "Stored"),
        ("somebody late", "Expired"),
    ];
    assert_eq!(records, expected.map(|(who, what)| (who.to_owned(), what.to_owned())));
    fixture.end().await;
}

#[rstest]
#[case::hold_too_short(permit(1, 0), "a lease of 0.001 s is out of range")]
#[case::hold_too_long(permit(400_000, 0), "a lease of 400 s is out of range")]
#[case::wait_too_long(permit(1_000, 400_000), "a wait of 400 s is out of range")]
#[tokio::test(flavor = "multi_thread")]
async fn out_of_range_requests_name_the_range(#[case] request: PermitRequest, #[case] says: &str) {
    let (fixture, berths) = started().await;
    let refused = berths.refiller.acquire_permit(&key("k"), request).await.unwrap_err();
    assert!(refused.to_string().starts_with(says), "{refused}");
    let wait = LockRequest { owner: "x".repeat(201), ..lock(1_000, 0) };
    let refused = berths.locker.acquire_lock(&key("k"), wait).await.unwrap_err();
    assert!(refused.to_string().contains("201 bytes"), "{refused}");
    fixture.end().await;
}
