//! What service instances do about refills and writes through the client library.

#![allow(clippy::unwrap_used, clippy::panic)]

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use serde_json::{Value, json};
use tokio::sync::Notify;
use tokio::task::JoinSet;
use verax_client::{Cache, CacheOptions, LockOptions, Outdated, PutOptions};
use verax_e2e::{Verax, until};

const MINUTE: Duration = Duration::from_secs(60);

fn started(policy: &[&str]) -> (Verax, Cache) {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let mut create = vec!["namespace", "create", "ferrydesk/boards", "--max-age", "10m"];
    create.extend(policy);
    verax.run(&create).done();
    let (timeout, bound) = (Duration::from_secs(30), Duration::from_secs(30));
    let options = CacheOptions { timeout, bound, ..CacheOptions::default() };
    let boards = verax.client().cache("ferrydesk", "boards", options).unwrap();
    (verax, boards)
}

/// Counts how often it is asked, and has what it is told to have.
#[derive(Default)]
struct Desk(AtomicU64);

impl Desk {
    async fn has(&self, value: Option<&'static str>) -> Result<Option<String>, &'static str> {
        self.0.fetch_add(1, Ordering::SeqCst);
        Ok(value.map(str::to_owned))
    }

    fn calls(&self) -> u64 {
        self.0.load(Ordering::SeqCst)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn that_there_is_none_is_kept_for_its_own_time() {
    let (_verax, boards) = started(&[]);
    let desk = Desk::default();
    for _ in 0..5 {
        let found = boards.find_or_refill("b", MINUTE, MINUTE, async || desk.has(None).await);
        assert_eq!(found.await, Ok(None::<String>));
    }
    assert_eq!(desk.calls(), 1, "the desk was asked once");
    assert!(boards.get("b").await.unwrap().is_none(), "it is no value");
    // A caller that needs a value refills, and all have the value then.
    let value = boards.get_or_refill("b", MINUTE, async || Ok::<_, ()>("07:10".to_owned())).await;
    assert_eq!(value.unwrap(), "07:10");
    let found = boards.find_or_refill("b", MINUTE, MINUTE, async || desk.has(None).await);
    assert_eq!(found.await.unwrap().as_deref(), Some("07:10"));
    assert_eq!(desk.calls(), 1);
    // And it ends by itself.
    let short = Duration::from_millis(100);
    boards.find_or_refill("c", MINUTE, short, async || desk.has(None).await).await.unwrap();
    until("it is asked again", async || {
        let found = boards.find_or_refill("c", MINUTE, short, async || desk.has(Some("now")).await);
        found.await.unwrap().is_some()
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_caller_refills_early_and_a_failure_then_costs_nobody_the_value() {
    let (verax, boards) = started(&["--early-refresh", "1000"]);
    let refills = AtomicU64::new(0);
    let read = async |fails: bool| {
        let refill = async || {
            tokio::time::sleep(Duration::from_millis(100)).await;
            match (refills.fetch_add(1, Ordering::SeqCst), fails) {
                (_, true) => Err("the desk is closed"),
                (n, false) => Ok(n),
            }
        };
        boards.get_or_refill("b", Duration::from_secs(3), refill).await
    };
    assert_eq!(read(false).await, Ok(0));
    until("it is due", async || {
        assert_eq!(read(true).await, Ok(0), "the value that is there will do");
        refills.load(Ordering::SeqCst) >= 2
    })
    .await;
    until("it is refreshed", async || read(false).await.unwrap() >= 2).await;
    let request = reqwest::Client::new().get(format!("{}/metrics", verax.url()));
    let metrics = request.bearer_auth(verax.token()).send().await.unwrap().text().await.unwrap();
    let failed =
        "verax_refills_total{tenant=\"ferrydesk\",namespace=\"boards\",outcome=\"failed\"}";
    assert!(metrics.lines().any(|l| l.starts_with(failed) && !l.ends_with(" 0")), "{metrics}");
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_write_nobody_reads_the_old_value() {
    let (verax, boards) = started(&[]);
    let tagged = PutOptions { tags: vec!["saltmere".into()], ..PutOptions::default() };
    for key in ["a", "b"] {
        boards.put(key, b"\"old\"".to_vec(), tagged.clone()).await.unwrap();
    }
    // A reader that began before the write comes after it with what it read.
    let slow = boards.get_or_refill("c", MINUTE, async || {
        let read = "old";
        let outdated = [Outdated::key("c"), Outdated::tag("saltmere")];
        let write = async || Ok::<_, ()>(json!({ "row": 7 }));
        let written = boards.write_and_invalidate(outdated, write).await.unwrap();
        written.told.unwrap();
        assert_eq!(written.value["row"], 7);
        Ok::<_, ()>(read.to_owned())
    });
    assert_eq!(slow.await.unwrap(), "old", "its own caller has it");
    for key in ["a", "b", "c"] {
        assert!(boards.get(key).await.unwrap().is_none(), "{key} is gone");
    }
    // A write that failed may have happened all the same.
    boards.put("a", b"1".to_vec(), PutOptions::default()).await.unwrap();
    let failed = boards.write_and_invalidate([Outdated::key("a")], async || Err::<(), _>("late"));
    assert_eq!(failed.await.unwrap_err(), "late");
    assert!(boards.get("a").await.unwrap().is_none());
    // One that cannot be ended keeps none of the others.
    boards.put("a", b"1".to_vec(), PutOptions::default()).await.unwrap();
    let outdated = [Outdated::key("x".repeat(2_000)), Outdated::key("a")];
    let written = boards.write_and_invalidate(outdated, async || Ok::<_, ()>(())).await.unwrap();
    assert!(written.told.is_err(), "a key of 2,000 bytes is none");
    assert!(boards.get("a").await.unwrap().is_none());
    // Of one that is given up in the middle the same is true.
    boards.put("a", b"1".to_vec(), PutOptions::default()).await.unwrap();
    let never = boards.write_and_invalidate([Outdated::key("a")], async || {
        std::future::pending::<Result<(), ()>>().await
    });
    assert!(tokio::time::timeout(Duration::from_millis(50), never).await.is_err());
    until("it is gone", async || boards.get("a").await.unwrap().is_none()).await;
    drop(verax);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_is_stored_with_the_write() {
    let (_verax, boards) = started(&[]);
    let write = async || Ok::<_, ()>("new".to_owned());
    boards.write_and_store("a", MINUTE, write).await.unwrap().told.unwrap();
    assert_eq!(boards.get_json::<String>("a").await.unwrap().as_deref(), Some("new"));
    let failed = boards.write_and_store("a", MINUTE, async || Err::<String, _>("refused")).await;
    assert_eq!(failed.unwrap_err(), "refused");
    assert_eq!(boards.get_json::<String>("a").await.unwrap().as_deref(), Some("new"));
}

#[tokio::test(flavor = "multi_thread")]
async fn over_http_a_negative_result_is_told_from_a_miss() {
    let (verax, _boards) = started(&[]);
    let at = format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/k", verax.url());
    let http = reqwest::Client::new();
    let get = async || {
        let response = http.get(&at).bearer_auth(verax.token()).send().await.unwrap();
        let status = response.headers()["cache-status"].to_str().unwrap().to_owned();
        let body: Value = response.json().await.unwrap();
        (body["type"].as_str().unwrap().rsplit([':', '/']).next().unwrap().to_owned(), status)
    };
    assert_eq!(get().await, ("miss".into(), "verax; fwd=uri-miss".into()));
    let none = http.put(&at).bearer_auth(verax.token());
    let none = none.header("content-type", "application/vnd.verax.no-value");
    let none = none.header("cache-control", "max-age=600").send().await.unwrap();
    assert_eq!(none.status(), 201);
    let (kind, status) = get().await;
    assert_eq!(kind, "no-value");
    assert!(status.starts_with("verax; hit; ttl="), "{status}");
    assert!(status.ends_with("; detail=no-value"), "{status}");
    let shown = verax.run(&["get", "ferrydesk/boards", "k"]);
    assert_eq!(shown.code, 3);
    assert!(shown.err.contains("a negative entry: no value for \"k\""), "{}", shown.err);
}

/// Callers of one process that need the same cold key cause one refill, however many they are.
#[tokio::test(flavor = "multi_thread")]
async fn one_process_refills_a_cold_key_once_however_many_ask() {
    let (_verax, boards) = started(&[]);
    let refills = Arc::new(AtomicU64::new(0));
    let mut callers = JoinSet::new();
    for _ in 0..2_500 {
        let (boards, refills) = (boards.clone(), Arc::clone(&refills));
        callers.spawn(async move {
            let refill = async || {
                refills.fetch_add(1, Ordering::SeqCst);
                tokio::time::sleep(Duration::from_millis(300)).await;
                Ok::<_, ()>("07:10".to_owned())
            };
            boards.get_or_refill("cold", MINUTE, refill).await.unwrap()
        });
    }
    while let Some(value) = callers.join_next().await {
        assert_eq!(value.unwrap(), "07:10");
    }
    assert_eq!(refills.load(Ordering::SeqCst), 1);

    // What is no such value is put right by one of them.
    boards.put("cold", b"{broken".to_vec(), PutOptions::default()).await.unwrap();
    for _ in 0..500 {
        let (boards, refills) = (boards.clone(), Arc::clone(&refills));
        callers.spawn(async move {
            let refill = async || {
                refills.fetch_add(1, Ordering::SeqCst);
                tokio::time::sleep(Duration::from_millis(100)).await;
                Ok::<_, ()>("08:20".to_owned())
            };
            boards.get_or_refill("cold", MINUTE, refill).await.unwrap()
        });
    }
    while let Some(value) = callers.join_next().await {
        assert_eq!(value.unwrap(), "08:20");
    }
    assert_eq!(refills.load(Ordering::SeqCst), 2);
}

/// A refill that fails or is given up is taken over by one of those that wait for it.
#[tokio::test(flavor = "multi_thread")]
async fn a_refill_that_fails_is_taken_over_and_an_invalidation_is_heeded() {
    let (_verax, boards) = started(&[]);
    let refills = Arc::new(AtomicU64::new(0));
    let mut callers = JoinSet::new();
    let counted = Arc::clone(&refills);
    for n in 0..50 {
        let (boards, refills) = (boards.clone(), Arc::clone(&refills));
        callers.spawn(async move {
            let refill = async || match refills.fetch_add(1, Ordering::SeqCst) {
                // The first one never comes back, and the second one fails.
                0 => std::future::pending().await,
                1 => Err("the desk is closed"),
                _ => Ok("07:10".to_owned()),
            };
            let limit = if n == 0 { 200 } else { 60_000 };
            let call = boards.get_or_refill("k", MINUTE, refill);
            tokio::time::timeout(Duration::from_millis(limit), call).await
        });
        if n == 0 {
            let refills = &counted;
            until("the first one refills", async || refills.load(Ordering::SeqCst) == 1).await;
        }
    }
    let mut ended = [0; 3];
    while let Some(call) = callers.join_next().await {
        ended[match call.unwrap() {
            Err(_) => 0,
            Ok(Err(_)) => 1,
            Ok(Ok(value)) => {
                assert_eq!(value, "07:10");
                2
            }
        }] += 1;
    }
    assert_eq!(ended, [1, 1, 48]);
    assert_eq!(refills.load(Ordering::SeqCst), 3);

    // Who asks after an invalidation gets nothing that was read before it.
    let (begun, go_on) = (Arc::new(Notify::new()), Arc::new(Notify::new()));
    let before = tokio::spawn({
        let (boards, begun, go_on) = (boards.clone(), Arc::clone(&begun), Arc::clone(&go_on));
        async move {
            let refill = async || {
                begun.notify_one();
                go_on.notified().await;
                Ok::<_, ()>("old".to_owned())
            };
            boards.get_or_refill("timetable", MINUTE, refill).await.unwrap()
        }
    });
    begun.notified().await;
    boards.delete("timetable").await.unwrap();
    let after = tokio::spawn({
        let boards = boards.clone();
        async move {
            boards.get_or_refill("timetable", MINUTE, async || Ok::<_, ()>("new".to_owned())).await
        }
    });
    go_on.notify_one();
    assert_eq!(before.await.unwrap(), "old");
    assert_eq!(after.await.unwrap().unwrap(), "new");
}

/// Calls that wait leave room for those that do not, and lifetimes are the same over both
/// transports.
#[tokio::test(flavor = "multi_thread")]
async fn hits_pass_calls_that_wait_and_lifetimes_are_the_same_over_both_transports() {
    let (verax, _) = started(&[]);
    let options = CacheOptions { connections: 1, ..CacheOptions::default() };
    let boards = verax.client().cache("ferrydesk", "boards", options).unwrap();
    let error_alone =
        PutOptions { stale_if_error: Some(Duration::from_secs(60)), ..PutOptions::default() };
    boards.put("k", b"1".to_vec(), error_alone.clone()).await.unwrap();
    let http = verax.client().namespace("ferrydesk", "boards").unwrap();
    http.put("h", b"1".to_vec(), error_alone).await.unwrap();
    let field = async |key: &str| {
        let at = format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/{key}", verax.url());
        let got = reqwest::Client::new().get(at).bearer_auth(verax.token()).send().await.unwrap();
        got.headers()["cache-control"].to_str().unwrap().to_owned()
    };
    assert_eq!(field("k").await, field("h").await);
    assert!(field("k").await.contains("max-age=600, stale-if-error=60"), "{}", field("k").await);
    let short = PutOptions { max_age: Some(Duration::from_millis(300)), ..PutOptions::default() };
    http.put("short", b"1".to_vec(), short).await.unwrap();
    assert!(http.get("short").await.unwrap().is_some(), "a part of a second is not none");

    // More callers wait than the server reads of one connection at a time.
    let held = boards.hold_lock("berth", &LockOptions::default()).await.unwrap();
    let mut waiting = JoinSet::new();
    for _ in 0..2_000 {
        let boards = boards.clone();
        waiting.spawn(async move {
            let wait = LockOptions { wait: Duration::from_secs(600), ..LockOptions::default() };
            boards.hold_lock("berth", &wait).await.map(drop)
        });
    }
    until("many wait", async || {
        let seen: Value = verax.run(&["lock", "list", "ferrydesk/boards", "--json"]).json();
        seen["items"][0]["queued"].as_u64().is_some_and(|waiting| waiting >= 500)
    })
    .await;
    for _ in 0..20 {
        assert!(boards.get("k").await.unwrap().is_some());
    }
    waiting.abort_all();
    drop(held);
}
