//! The service for tests, used as an application's tests use it: in virtual time, with faults.

#![allow(clippy::unwrap_used, clippy::panic)]

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use rstest::rstest;
use tokio::time::Instant;
use verax_client::{
    Cache, CacheOptions, CachedFrom, FailureKind, LockOptions, LockOutcome, NearCopies, Outdated,
    Rate, RateLimitOutcome,
};
use verax_testing::{Fault, PolicyChange, TestService};

const SECOND: Duration = Duration::from_secs(1);
const HOUR: Duration = Duration::from_secs(3_600);

async fn started() -> (TestService, Cache) {
    let verax = TestService::start().await.unwrap();
    let policy = PolicyChange { max_age_seconds: Some(600.0), ..PolicyChange::default() };
    verax.create_namespace("ferrydesk", "boards", policy).await.unwrap();
    let boards = verax.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    (verax, boards)
}

async fn text(cache: &Cache, key: &str) -> Option<String> {
    let hit = cache.get(key).await.unwrap()?;
    Some(String::from_utf8(hit.value.to_vec()).unwrap())
}

#[tokio::test(start_paused = true)]
async fn entries_expire_in_virtual_time() {
    let (verax, boards) = started().await;
    let began = std::time::Instant::now();
    boards.put("k", "v", Default::default()).await.unwrap();
    verax.advance(599 * SECOND).await;
    assert_eq!(text(&boards, "k").await.as_deref(), Some("v"));
    verax.advance(2 * SECOND).await;
    assert_eq!(text(&boards, "k").await, None);
    let rate = Rate::new(1, HOUR, 1).unwrap();
    let acquire = async || boards.acquire_rate("search", 1, rate).await.unwrap();
    assert_eq!(acquire().await, RateLimitOutcome::Allowed { left: 0 });
    assert!(matches!(acquire().await, RateLimitOutcome::Later { .. }));
    verax.advance(HOUR).await;
    assert_eq!(acquire().await, RateLimitOutcome::Allowed { left: 0 });
    assert!(began.elapsed() < 60 * SECOND, "the hours are virtual");
}

#[tokio::test(start_paused = true)]
async fn callers_share_a_refill_that_takes_long() {
    let (_verax, boards) = started().await;
    let reads = AtomicU64::new(0);
    let read = async || {
        let refill = async || {
            reads.fetch_add(1, Ordering::SeqCst);
            tokio::time::sleep(2 * SECOND).await;
            Ok::<_, String>("07:10".to_owned())
        };
        boards.entry("board/saltmere").max_age(HOUR).get_or_refill(refill).await.unwrap().value
    };
    let all = futures_util::future::join_all((0..100).map(|_| read())).await;
    assert!(all.iter().all(|value| value == "07:10"));
    assert_eq!(reads.load(Ordering::SeqCst), 1);
}

#[tokio::test(start_paused = true)]
async fn a_lock_is_lost_when_the_service_is_silent_for_its_lease() {
    let (verax, boards) = started().await;
    let options = LockOptions { lease: 10 * SECOND, ..LockOptions::default() };
    let LockOutcome::Acquired(guard) = boards.hold_lock("berth", &options).await.unwrap() else {
        panic!("nobody else has it")
    };
    tokio::time::sleep(HOUR).await;
    assert!(!guard.is_lost(), "it was renewed for an hour");
    verax.set_fault(Fault::Silent);
    let began = Instant::now();
    guard.lost().await;
    assert!(began.elapsed() <= 10 * SECOND, "{:?}", began.elapsed());
    verax.heal();
    tokio::time::sleep(20 * SECOND).await;
    let again = boards.hold_lock("berth", &options).await.unwrap();
    assert!(matches!(again, LockOutcome::Acquired(_)));
}

#[rstest]
#[case(Fault::Unreachable)]
#[case(Fault::Silent)]
#[case(Fault::Slow(5 * SECOND))]
#[tokio::test(start_paused = true)]
async fn a_fault_costs_at_most_the_bound_and_ends_when_it_heals(#[case] fault: Fault) {
    let (verax, boards) = started().await;
    let entry = boards.entry("k").max_age(HOUR);
    entry.get_or_refill(async || Ok::<_, String>("one".to_owned())).await.unwrap();
    verax.set_fault(fault);
    let began = Instant::now();
    let own = entry.get_or_refill(async || Ok::<_, String>("two".to_owned())).await.unwrap();
    assert_eq!((&*own.value, own.from), ("two", CachedFrom::Refill));
    assert!(own.not_stored.is_some());
    assert!(began.elapsed() <= Duration::from_millis(60), "{:?}", began.elapsed());
    verax.heal();
    let began = Instant::now();
    loop {
        let read = entry.get_or_refill(async || Ok::<_, String>("three".to_owned())).await.unwrap();
        if read.from == CachedFrom::Cache {
            assert_eq!(read.value, "one");
            break;
        }
        assert!(began.elapsed() < 60 * SECOND);
        tokio::time::sleep(SECOND).await;
    }
}

#[tokio::test(start_paused = true)]
async fn lost_invalidations_are_delivered_and_no_old_value_is_served_meanwhile() {
    let (verax, boards) = started().await;
    let entry = boards.entry("board/a").max_age(HOUR).tag("harbor-a");
    entry.get_or_refill(async || Ok::<_, String>("old".to_owned())).await.unwrap();
    verax.set_fault(Fault::LostInvalidations);
    let written = boards
        .write_and_invalidate([Outdated::key("board/a")], async || Ok::<_, String>(()))
        .await
        .unwrap();
    assert!(written.invalidated.is_err());
    let own = entry.get_or_refill(async || Ok::<_, String>("new".to_owned())).await.unwrap();
    assert_eq!(own.value, "new");
    verax.heal();
    tokio::time::sleep(5 * SECOND).await;
    let read = entry.get_or_refill(async || Ok::<_, String>("newest".to_owned())).await.unwrap();
    assert_ne!(read.value, "old");
}

#[tokio::test(start_paused = true)]
async fn near_copies_age_in_virtual_time_and_entries_may_be_lost() {
    let (verax, boards) = started().await;
    let near_copies = Some(NearCopies { max_bytes: 1 << 20, max_age: 10 * SECOND });
    let near = CacheOptions { near_copies, ..CacheOptions::default() };
    let near = verax.cache("ferrydesk", "boards", near).unwrap();
    boards.put("k", "v", Default::default()).await.unwrap();
    assert!(!near.get("k").await.unwrap().unwrap().near);
    assert!(near.get("k").await.unwrap().unwrap().near);
    verax.advance(11 * SECOND).await;
    assert!(!near.get("k").await.unwrap().unwrap().near);
    verax.lose_entries();
    assert_eq!(text(&boards, "k").await, None);
}

#[tokio::test(start_paused = true)]
async fn tokens_have_scopes_and_can_be_revoked() {
    let (verax, boards) = started().await;
    boards.put("k", "v", Default::default()).await.unwrap();
    let (client, token) = verax.client_with(&["read:ferrydesk"]).await.unwrap();
    let reader = client.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    assert_eq!(text(&reader, "k").await.as_deref(), Some("v"));
    let refused = reader.put("k", "w", Default::default()).await.unwrap_err();
    assert_eq!(refused.failure(), Some(FailureKind::MissingScope));
    verax.revoke(token).await.unwrap();
    let refused = reader.get("k").await.unwrap_err();
    assert_eq!(refused.failure(), Some(FailureKind::NotSignedIn), "{refused}");
    assert!(verax.revoke(token).await.is_err());
    assert!(verax.client_with(&["read:nobody"]).await.is_err());
    assert!(verax.create_namespace("ferrydesk", "boards", Default::default()).await.is_err());
}

#[tokio::test]
async fn it_works_in_real_time_too() {
    let (_verax, boards) = started().await;
    boards.put("k", "v", Default::default()).await.unwrap();
    assert_eq!(text(&boards, "k").await.as_deref(), Some("v"));
}
