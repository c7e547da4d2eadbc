//! The cache handle over HTTP: refills, stale copies and lost invalidations as over the wire.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use nix::sys::signal::Signal;
use verax_client::{
    Cache, CacheOptions, CachedFrom, ClientError, LockOptions, NearCopies, Outdated,
};
use verax_e2e::{Verax, until};

const HOUR: Duration = Duration::from_secs(3_600);

fn started() -> (Verax, Cache) {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "10m"]).done();
    let bound = Duration::from_secs(5);
    let options = CacheOptions { bound, timeout: bound, ..CacheOptions::default() };
    let boards = verax.client().cache_over_http("ferrydesk", "boards", options).unwrap();
    (verax, boards)
}

#[tokio::test(flavor = "multi_thread")]
async fn callers_of_two_handles_share_one_refill() {
    let (verax, boards) = started();
    let options = CacheOptions { bound: Duration::from_secs(5), ..CacheOptions::default() };
    let others = verax.client().cache("ferrydesk", "boards", options).unwrap();
    let reads = Arc::new(AtomicU64::new(0));
    let calls = (0..40).map(|n| {
        let cache = if n % 2 == 0 { boards.clone() } else { others.clone() };
        let reads = Arc::clone(&reads);
        tokio::spawn(async move {
            let refill = async || {
                reads.fetch_add(1, Ordering::SeqCst);
                tokio::time::sleep(Duration::from_millis(100)).await;
                Ok::<_, String>("07:10 Saltmere".to_owned())
            };
            cache.entry("board/saltmere").max_age(HOUR).get_or_refill(refill).await.unwrap().value
        })
    });
    for call in calls.collect::<Vec<_>>() {
        assert_eq!(call.await.unwrap(), "07:10 Saltmere");
    }
    assert_eq!(reads.load(Ordering::SeqCst), 1);
}

#[tokio::test]
async fn a_tag_invalidates_and_a_failed_refill_serves_the_stale_copy() {
    let (_verax, boards) = started();
    let read = |value: &'static str| async move || Ok::<_, String>(value.to_owned());
    let entry = boards.entry("board/a").max_age(HOUR).tag("harbor-a");
    assert_eq!(entry.get_or_refill(read("one")).await.unwrap().from, CachedFrom::Refill);
    let hit = entry.get_or_refill(read("two")).await.unwrap();
    assert_eq!((&*hit.value, hit.from), ("one", CachedFrom::Cache));
    assert!(hit.age.is_some() && hit.time_left.is_some());
    boards.invalidate_tag("harbor-a").await.unwrap();
    assert_eq!(entry.get_or_refill(read("two")).await.unwrap().value, "two");

    let entry = boards.entry("board/b").max_age(Duration::ZERO).stale_if_error(HOUR);
    entry.get_or_refill(read("stale")).await.unwrap();
    let failing = async || Err::<String, _>("the database is away".to_owned());
    let served = entry.get_or_refill(failing).await.unwrap();
    assert_eq!((&*served.value, served.from), ("stale", CachedFrom::StaleOnError));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_invalidation_is_delivered_when_the_service_is_back() {
    let (verax, boards) = started();
    let options = CacheOptions { timeout: Duration::from_millis(200), ..CacheOptions::default() };
    let hasty = verax.client().cache_over_http("ferrydesk", "boards", options).unwrap();
    boards.put_json("k", &"old", Default::default()).await.unwrap();
    verax.send(Signal::SIGSTOP);
    let written =
        hasty.write_and_invalidate([Outdated::key("k")], async || Ok::<_, String>(())).await;
    assert!(written.unwrap().invalidated.is_err());
    verax.send(Signal::SIGCONT);
    until("the invalidation is delivered", async || matches!(boards.get("k").await, Ok(None)))
        .await;
}

#[tokio::test]
async fn what_only_the_wire_protocol_has_is_refused() {
    let (verax, boards) = started();
    let near_copies = Some(NearCopies { max_bytes: 1 << 20, max_age: HOUR });
    let options = CacheOptions { near_copies, ..CacheOptions::default() };
    let refused = verax.client().cache_over_http("ferrydesk", "boards", options);
    assert!(matches!(refused, Err(ClientError::Invalid(why)) if why.contains("wire protocol")));
    let options = LockOptions { ends_with_connection: true, ..LockOptions::default() };
    let refused = boards.hold_lock("berth", &options).await;
    assert!(matches!(refused, Err(ClientError::Invalid(why)) if why.contains("wire protocol")));
}

#[tokio::test]
async fn a_key_that_no_url_can_have_fails_in_its_place() {
    let (_verax, boards) = started();
    boards.put("a", "v", Default::default()).await.unwrap();
    let read = boards.get_many(&["a", "..", "none"]).await.unwrap();
    assert!(read[0].as_ref().unwrap().is_some() && read[2].as_ref().unwrap().is_none());
    let why = read[1].as_ref().unwrap_err().to_string();
    assert!(why.contains("cannot be put in a URL"), "{why}");
}
