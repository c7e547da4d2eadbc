//! What service instances do about refills and writes through the client library.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use nix::sys::signal::Signal;
use serde_json::{Value, json};
use tokio::sync::Notify;
use tokio::task::JoinSet;
use verax_client::{
    Cache, CacheEventKind, CacheMetrics, CacheOptions, CachedFrom, LockOptions, LockOutcome,
    Outdated, PutMany, PutOptions, Rate, Raw, Refilled, TokenSource, WithoutService,
};
use verax_e2e::{Verax, until};

const MINUTE: Duration = Duration::from_secs(60);

fn started(policy: &[&str]) -> (Verax, Cache) {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let mut create = vec!["namespace", "create", "ferrydesk/boards", "--max-age", "10m"];
    create.extend(policy);
    verax.run(&create).done();
    let boards = verax.client().cache("ferrydesk", "boards", patient()).unwrap();
    (verax, boards)
}

/// Options with which a busy machine makes no difference.
fn patient() -> CacheOptions {
    let (timeout, bound) = (Duration::from_secs(30), Duration::from_secs(30));
    CacheOptions { timeout, bound, ..CacheOptions::default() }
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
async fn negative_entries_have_a_max_age_of_their_own() {
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
async fn one_caller_refills_early_and_a_failed_early_refill_keeps_the_value() {
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
async fn no_read_after_a_write_returns_the_old_value() {
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
        written.invalidated.unwrap();
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
    assert!(written.invalidated.is_err(), "a key of 2,000 bytes is none");
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
async fn a_write_through_stores_the_value() {
    let (_verax, boards) = started(&[]);
    let write = async || Ok::<_, ()>("new".to_owned());
    boards.write_and_store("a", MINUTE, write).await.unwrap().invalidated.unwrap();
    assert_eq!(boards.get_json::<String>("a").await.unwrap().as_deref(), Some("new"));
    let failed = boards.write_and_store("a", MINUTE, async || Err::<String, _>("refused")).await;
    assert_eq!(failed.unwrap_err(), "refused");
    assert_eq!(boards.get_json::<String>("a").await.unwrap().as_deref(), Some("new"));
}

#[tokio::test(flavor = "multi_thread")]
async fn http_distinguishes_a_negative_entry_from_a_miss() {
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
async fn one_process_refills_a_cold_key_once_for_all_its_callers() {
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
async fn a_failed_refill_is_taken_over_and_an_invalidation_is_respected() {
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
    // Whose refill fails gets the error, or the value if another has stored it by then.
    assert!(ended[0] == 1 && ended[1] <= 1, "{ended:?}");
    assert_eq!(refills.load(Ordering::SeqCst), 3);
    // Nobody stores a value for a caller that is alone.
    let alone = boards.get_or_refill("alone", MINUTE, async || Err::<String, _>("closed")).await;
    assert_eq!(alone, Err("closed"));

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
async fn hits_overtake_waiting_calls_and_lifetimes_match_over_both_transports() {
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

/// What an entry is stored with: tags and lifetime of the call, and those that its refill found.
#[tokio::test(flavor = "multi_thread")]
async fn an_entry_is_refilled_with_its_tags_and_lifetime() {
    let (verax, boards) = started(&["--stale-if-error", "1h"]);
    let entry = boards.entry("board/saltmere").max_age(MINUTE).tag("boards");
    let first = entry.get_or_refill(async || Ok::<_, ()>("07:10".to_owned())).await.unwrap();
    assert_eq!((first.value.as_str(), first.from), ("07:10", CachedFrom::Refill));
    assert!(first.not_stored.is_none(), "{first:?}");
    let again = entry.get_or_refill(async || Err::<String, _>("not asked")).await.unwrap();
    assert_eq!((again.value.as_str(), again.from), ("07:10", CachedFrom::Cache));
    assert!(again.age.is_some() && again.time_left.unwrap() <= MINUTE, "{again:?}");

    // A refill that knows more than the value.
    let found: Option<String> = boards
        .entry("board/quillsound")
        .tags(["boards"])
        .find_or_refill(async || {
            let refilled = Refilled::value("08:20".to_owned()).tag("harbor-quillsound");
            Ok::<_, ()>(refilled.max_age(MINUTE / 2))
        })
        .await
        .unwrap()
        .value;
    assert_eq!(found.as_deref(), Some("08:20"));
    let shown = verax.run(&["show", "ferrydesk/boards", "board/quillsound", "--json"]).json();
    assert_eq!(shown["tags"], json!(["boards", "harbor-quillsound"]));
    assert!(shown["time_left_seconds"].as_f64().unwrap() <= 30.0, "{shown}");
    // Parts of the lifetime that were left out are the policy's, over both transports.
    let http = verax.client().namespace("ferrydesk", "boards").unwrap();
    let minute = PutOptions { max_age: Some(MINUTE), ..PutOptions::default() };
    http.put("over-http", b"1".to_vec(), minute).await.unwrap();
    for key in ["board%2Fsaltmere", "over-http"] {
        let at = format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/{key}", verax.url());
        let got = reqwest::Client::new().get(at).bearer_auth(verax.token()).send().await.unwrap();
        let field = got.headers()["cache-control"].to_str().unwrap();
        assert_eq!(field, "max-age=60, stale-if-error=3600", "{key}");
    }

    boards.invalidate_tag("boards").await.unwrap();
    for key in ["board/saltmere", "board/quillsound"] {
        assert!(boards.get(key).await.unwrap().is_none(), "{key} had the tag");
    }
    // No value, as the refill found, and one that is not to be stored.
    let none = boards.entry("board/nowhere").max_age(MINUTE * 60).negative_max_age(MINUTE);
    let found = none.find_or_refill(async || Ok::<_, ()>(None::<String>)).await.unwrap();
    assert_eq!((found.value, found.from), (None, CachedFrom::Refill));
    let found = none.find_or_refill::<String, Option<String>, _>(async || Err("not asked")).await;
    assert_eq!(found.unwrap().from, CachedFrom::Cache);
    // Without a time of its own, a negative entry is kept as long as the namespace says.
    verax.run(&["namespace", "change", "ferrydesk/boards", "--negative-max-age", "7s"]).done();
    let none = boards.entry("board/elsewhere").max_age(MINUTE);
    none.find_or_refill(async || Ok::<_, ()>(None::<String>)).await.unwrap();
    let at =
        format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/board%2Felsewhere", verax.url());
    let got = reqwest::Client::new().get(at).bearer_auth(verax.token()).send().await.unwrap();
    let status = got.headers()["cache-status"].to_str().unwrap();
    let seconds = status.strip_prefix("verax; hit; ttl=").and_then(|rest| rest.split(';').next());
    assert!(seconds.unwrap().parse::<u64>().unwrap() <= 7, "{status}");
    let private = boards.entry("private");
    let refill = async || Ok::<_, ()>(Refilled::value("for one".to_owned()).not_stored());
    assert!(private.find_or_refill(refill).await.unwrap().not_stored.is_some());
    assert!(boards.get("private").await.unwrap().is_none());
}

/// When a refill fails, a copy within its stale-if-error time is served and marked.
#[tokio::test(flavor = "multi_thread")]
async fn a_failed_refill_serves_the_stale_copy() {
    let (verax, boards) = started(&["--stale-if-error", "1h"]);
    let entry = boards.entry("board/saltmere").max_age(Duration::from_millis(1));
    entry.get_or_refill(async || Ok::<_, &str>("07:10".to_owned())).await.unwrap();
    until("it is stale", async || boards.get("board/saltmere").await.unwrap().is_none()).await;
    let served = entry.get_or_refill(async || Err::<String, _>("the desk is closed")).await;
    let served = served.unwrap();
    assert_eq!((served.value.as_str(), served.from), ("07:10", CachedFrom::StaleOnError));
    assert!(served.time_left.is_none() && served.age.is_some(), "{served:?}");
    // Also for the simple form; and over HTTP, for whoever accepts it.
    let simple =
        boards.get_or_refill("board/saltmere", MINUTE, async || Err::<String, _>("closed"));
    assert_eq!(simple.await.unwrap(), "07:10");
    let at =
        format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/board%2Fsaltmere", verax.url());
    let get = async |accepts: &str| {
        let get = reqwest::Client::new().get(&at).bearer_auth(verax.token());
        get.header("cache-control", accepts).send().await.unwrap()
    };
    assert_eq!(get("only-if-cached").await.status(), 404);
    assert_eq!(get("only-if-cached, stale-if-error=0").await.status(), 404);
    let accepted = get("only-if-cached, stale-if-error=600").await;
    assert_eq!(accepted.status(), 200);
    let status = accepted.headers()["cache-status"].to_str().unwrap();
    assert!(status.ends_with("detail=stale-if-error"), "{status}");
    // After an invalidation there is none.
    boards.delete("board/saltmere").await.unwrap();
    let failed = entry.get_or_refill(async || Err::<String, _>("the desk is closed")).await;
    assert_eq!(failed.unwrap_err(), "the desk is closed");
}

/// A caller that finds a stale copy does not wait for the refill, which runs in the background.
#[tokio::test(flavor = "multi_thread")]
async fn a_stale_copy_is_refilled_in_the_background() {
    let (_verax, boards) = started(&["--stale-while-revalidate", "1h"]);
    let entry = boards.entry("k").max_age(Duration::from_millis(1));
    entry.get_or_refill(async || Ok::<_, ()>(1)).await.unwrap();
    until("it is stale", async || {
        boards.get("k").await.unwrap().is_some_and(|hit| hit.time_left.is_none())
    })
    .await;
    let go_on = Arc::new(Notify::new());
    let refill = {
        let go_on = Arc::clone(&go_on);
        async move {
            go_on.notified().await;
            Ok::<_, ()>(Some(2))
        }
    };
    let served = entry.find_or_refill_in_background(refill).await.unwrap();
    assert_eq!((served.value, served.from), (Some(1), CachedFrom::BeingRefreshed));
    // Another caller does not begin a second one.
    let other = entry.find_or_refill_in_background(async { Ok::<_, ()>(Some(9)) }).await.unwrap();
    assert_eq!(other.value, Some(1));
    go_on.notify_one();
    // The new value is soon stale as well, and is served nevertheless.
    until("it is refreshed", async || boards.get_json::<i32>("k").await.unwrap() == Some(2)).await;
}

/// Instances before and after a change of a value's schema keep their own entries, and a write
/// invalidates both.
#[tokio::test(flavor = "multi_thread")]
async fn schema_versions_do_not_refill_each_others_entries() {
    let (_verax, boards) = started(&[]);
    let refills = AtomicU64::new(0);
    let old = boards.entry("k").schema(1);
    let new = boards.entry("k").schema(2);
    let read = async || {
        let number = async || {
            refills.fetch_add(1, Ordering::SeqCst);
            Ok::<_, ()>(7u32)
        };
        let text = async || {
            refills.fetch_add(1, Ordering::SeqCst);
            Ok::<_, ()>("seven".to_owned())
        };
        assert_eq!(old.get_or_refill(number).await.unwrap().value, 7);
        assert_eq!(new.get_or_refill(text).await.unwrap().value, "seven");
    };
    for _ in 0..8 {
        read().await;
    }
    assert_eq!(refills.load(Ordering::SeqCst), 2);
    let write = boards.write_and_invalidate(Outdated::schema("k", 1), async || Ok::<_, ()>(()));
    write.await.unwrap().invalidated.unwrap();
    read().await;
    assert_eq!(refills.load(Ordering::SeqCst), 4);
}

/// An invalidation that a hung service missed is delivered when it is back, and until then this
/// process serves no value that it may concern. The whole write takes one timeout.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_invalidation_is_delivered_later() {
    let (verax, _) = started(&[]);
    let events: Arc<std::sync::Mutex<Vec<CacheEventKind>>> = Arc::default();
    let heard = Arc::clone(&events);
    let options = CacheOptions {
        timeout: Duration::from_secs(2),
        hook: Some(Arc::new(move |event| heard.lock().unwrap().push(event.kind))),
        ..CacheOptions::default()
    };
    let boards = verax.client().cache("ferrydesk", "boards", options).unwrap();
    let tagged = PutOptions { tags: vec!["saltmere".into()], ..PutOptions::default() };
    boards.put("a", b"\"old\"".to_vec(), PutOptions::default()).await.unwrap();
    boards.put("b", b"\"old\"".to_vec(), tagged).await.unwrap();
    boards.put("c", b"\"old\"".to_vec(), PutOptions::default()).await.unwrap();

    verax.send(Signal::SIGSTOP);
    let outdated = [Outdated::key("a"), Outdated::tag("saltmere"), Outdated::key("x")];
    let written = boards.write_and_invalidate(outdated, async || Ok::<_, ()>(())).await.unwrap();
    let error = written.invalidated.unwrap_err();
    assert!(error.is_temporary(), "{error}");
    let read = async |key| {
        boards.get_or_refill(key, MINUTE, async || Ok::<_, ()>("new".to_owned())).await.unwrap()
    };
    assert_eq!(read("a").await, "new", "the reader does not depend on the service");
    verax.send(Signal::SIGCONT);
    // From here on it answers, and its copies are outdated until the invalidations arrive.
    until("the invalidations are delivered", async || {
        assert_eq!(read("a").await, "new");
        assert_eq!(read("b").await, "new");
        events.lock().unwrap().contains(&CacheEventKind::InvalidationDelivered)
    })
    .await;
    let other = verax.client().cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    for key in ["a", "b"] {
        let value: Option<String> = other.get_json(key).await.unwrap();
        assert_ne!(value.as_deref(), Some("old"), "{key}");
    }
    assert_eq!(other.get_json::<String>("c").await.unwrap().as_deref(), Some("old"));
    let heard = events.lock().unwrap();
    assert!(heard.contains(&CacheEventKind::InvalidationDelayed), "{heard:?}");
}

/// Larger batches than one frame carries are split.
#[tokio::test(flavor = "multi_thread")]
async fn batches_of_any_size_are_split() {
    let (verax, boards) = started(&[]);
    let keys: Vec<String> = (0..2_500).map(|n| format!("k/{n}")).collect();
    let values: Vec<PutMany> = keys
        .iter()
        .map(|key| {
            let (key, value) = (key.clone(), key.clone().into());
            PutMany { key, value, options: PutOptions::default() }
        })
        .collect();
    let stored = boards.put_many(&values).await.unwrap();
    assert!(stored.len() == 2_500 && stored.into_iter().all(|replaced| !replaced.unwrap()));
    let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
    let found = boards.get_many(&keys).await.unwrap();
    for (key, hit) in keys.iter().zip(found) {
        assert_eq!(hit.unwrap().unwrap().value, key.as_bytes());
    }
    // By size: forty values of half a MiB.
    let large: Vec<PutMany> = (0..40)
        .map(|n| {
            let options = PutOptions::default();
            PutMany { key: format!("large/{n}"), value: vec![7; 512 << 10].into(), options }
        })
        .collect();
    assert!(boards.put_many(&large).await.unwrap().into_iter().all(|stored| stored.is_ok()));
    drop(verax);
}

/// Bytes are stored as they are, and other codecs share refills like JSON does.
#[tokio::test(flavor = "multi_thread")]
async fn values_are_stored_as_their_codec_encodes_them() {
    let (verax, boards) = started(&[]);
    let image = bytes::Bytes::from(vec![0xff; 10_000]);
    let entry = boards.entry("image").codec(Raw).max_age(MINUTE);
    let stored = entry.get_or_refill(async || Ok::<_, ()>(image.clone())).await.unwrap();
    assert_eq!((stored.value, stored.not_stored.is_none()), (image.clone(), true));
    let shown = verax.run(&["show", "ferrydesk/boards", "image", "--json"]).json();
    assert_eq!(shown["value_bytes"], 10_000, "{shown}");
    assert_eq!(shown["media_type"], "application/octet-stream");
    assert_eq!(entry.get::<bytes::Bytes>().await.unwrap(), Some(image));
    // Text that is none is refilled by whoever expects text.
    let text = boards.entry("image").codec(Raw);
    let read = text.get_or_refill(async || Ok::<_, ()>("a fog horn".to_owned())).await.unwrap();
    assert_eq!((read.value.as_str(), read.from), ("a fog horn", CachedFrom::Refill));
    let value = boards.get("image").await.unwrap().unwrap().value;
    assert_eq!(value, "a fog horn");
}

/// The values of a namespace with an origin are the origin's: a refill stores nothing and says why.
#[tokio::test(flavor = "multi_thread")]
async fn a_refill_in_a_namespace_with_an_origin_is_not_stored() {
    let (verax, boards) = started(&[]);
    let at = "http://127.0.0.1:1/{key}";
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", at]).done();
    verax.run(&["namespace", "change", "ferrydesk/boards", "--origin", "desk"]).done();
    let read = boards.entry("k").get_or_refill(async || Ok::<_, ()>(7)).await.unwrap();
    assert_eq!(read.value, 7);
    let why = read.not_stored.unwrap();
    assert_eq!(why.problem(), Some("has-origin"), "{why}");
    assert!(why.to_string().contains("namespace ferrydesk/boards has an origin"), "{why}");
    let cached = verax.run(&["get", "ferrydesk/boards", "k", "--only-if-cached"]);
    assert_eq!(cached.code, 3, "{cached:?}");
}

/// A refill that began before its namespace got an origin stores nothing over the origin's values.
#[tokio::test(flavor = "multi_thread")]
async fn an_origin_voids_the_refills_that_began_before_it() {
    let (verax, boards) = started(&[]);
    let at = "http://127.0.0.1:1/{key}";
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", at]).done();
    let refill = async || {
        verax.run(&["namespace", "change", "ferrydesk/boards", "--origin", "desk"]).done();
        Ok::<_, ()>(7)
    };
    let read = boards.entry("k").get_or_refill(refill).await.unwrap();
    let why = read.not_stored.map(|why| why.problem().map(str::to_owned));
    assert_eq!((read.value, why), (7, Some(Some("permit-voided".to_owned()))));
    let cached = verax.run(&["get", "ferrydesk/boards", "k", "--only-if-cached"]);
    assert_eq!(cached.code, 3, "{cached:?}");
}

/// Every call says why it failed, also while the client waits before it tries again, and a token
/// that is replaced is read anew.
#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_keeps_its_reason_and_a_replaced_token_is_read() {
    let (verax, _) = started(&[]);
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), "verax-token-unknown").unwrap();
    let client = verax.client_with_source(TokenSource::file(file.path()));
    let boards = client.cache("ferrydesk", "boards", patient()).unwrap();
    for _ in 0..20 {
        let error = boards.get("k").await.unwrap_err();
        assert_eq!(error.problem(), Some("not-signed-in"), "{error}");
        let read = boards.entry("k").get_or_refill(async || Ok::<_, ()>(7)).await.unwrap();
        assert_eq!(read.not_stored.unwrap().problem(), Some("not-signed-in"));
    }
    let refused = client.tenants().await.unwrap_err();
    assert_eq!(refused.problem(), Some("not-signed-in"));
    std::fs::write(file.path(), verax.token()).unwrap();
    until("the new token is read", async || boards.get("k").await.is_ok()).await;
    assert_eq!(client.tenants().await.unwrap().len(), 1);
    // A token that may only read: the value comes, and why it was not stored.
    let reader = verax.run(&["token", "create", "--scope", "read:ferrydesk", "--json"]).json();
    let secret = reader["secret"].as_str().unwrap();
    let boards = verax.client_with(secret).cache("ferrydesk", "boards", patient());
    let boards = boards.unwrap();
    let read = boards.entry("k").get_or_refill(async || Ok::<_, ()>(7)).await.unwrap();
    let why = read.not_stored.unwrap();
    assert_eq!(why.problem(), Some("missing-scope"), "{why}");
    assert!(why.to_string().contains("write:ferrydesk"), "{why}");
    let elsewhere = verax.client().cache("ferrydesk", "nowhere", patient()).unwrap();
    let read = elsewhere.entry("k").get_or_refill(async || Ok::<_, ()>(7)).await.unwrap();
    assert_eq!(read.not_stored.unwrap().problem(), Some("not-found"));
}

/// The application sees its hit ratio, and decides by itself who passes a rate limit when the
/// service hangs, within the bound of a call and at no cost once the circuit is open.
#[tokio::test(flavor = "multi_thread")]
async fn applications_count_events_and_decide_without_the_service() {
    let (verax, _) = started(&[]);
    let metrics = CacheMetrics::default();
    let options = CacheOptions { hook: Some(metrics.hook()), ..patient() };
    let boards = verax.client().cache("ferrydesk", "boards", options).unwrap();
    let entry = boards.entry("k").max_age(MINUTE);
    for _ in 0..4 {
        let read = entry.get_or_refill(async || Ok::<_, ()>(7)).await.unwrap();
        assert!(read.not_stored.is_none(), "{read:?}");
    }
    assert_eq!(metrics.hit_ratio(), Some(0.75));
    let mut registry = prometheus_client::registry::Registry::default();
    metrics.register(&mut registry);
    let mut page = String::new();
    prometheus_client::encoding::text::encode(&mut page, &registry).unwrap();
    let hits =
        "verax_client_events_total{tenant=\"ferrydesk\",namespace=\"boards\",event=\"hit\"} 3";
    assert!(page.contains(hits), "{page}");

    boards.put("p", "1", PutOptions::default()).await.unwrap();
    boards.delete("p").await.unwrap();
    let held = boards.hold_lock("berth", &LockOptions::default()).await.unwrap();
    page.clear();
    prometheus_client::encoding::text::encode(&mut page, &registry).unwrap();
    for event in ["put", "delete", "lock", "refill", "miss"] {
        let counted = format!("namespace=\"boards\",event=\"{event}\"}} 1");
        assert!(page.contains(&counted), "{event}: {page}");
    }
    drop(held);

    // A route that must answer waits for the bound at most.
    let options = CacheOptions { bound: Duration::from_secs(1), ..CacheOptions::default() };
    let limits = verax.client().cache("ferrydesk", "boards", options).unwrap();
    until("it is connected", async || limits.get("k").await.is_ok()).await;
    let rate = Rate::new(1, MINUTE, 1).unwrap();
    let allows = async |without| limits.allows("search", 1, rate, without).await;
    let first = allows(WithoutService::Refuse).await;
    assert!(first.is_allowed && first.undecided.is_none(), "{first:?}");
    let second = allows(WithoutService::Allow).await;
    assert!(!second.is_allowed && second.retry_after.is_some(), "{second:?}");
    verax.send(Signal::SIGSTOP);
    for _ in 0..20 {
        let decision = allows(WithoutService::Allow).await;
        assert!(decision.is_allowed && decision.undecided.is_some(), "{decision:?}");
        assert!(!allows(WithoutService::Refuse).await.is_allowed);
    }
    // Now and then a call tries whether the service is back.
    until("an open circuit tells the last failure", async || {
        let why = allows(WithoutService::Allow).await.undecided.unwrap().to_string();
        why.contains("circuit is open") && why.contains("did not answer within 1000 ms")
    })
    .await;
    verax.send(Signal::SIGCONT);
}

/// Reads that time out open the circuit, which must not cost a lease: renewing and releasing are
/// tried in any case. Nor does a write of one key disturb the refill of another.
#[tokio::test(flavor = "multi_thread")]
async fn an_open_circuit_does_not_keep_a_lock() {
    let (verax, other) = started(&[]);
    let options = CacheOptions { bound: Duration::from_millis(20), ..patient() };
    let boards = verax.client().cache("ferrydesk", "boards", options).unwrap();
    let held = boards.hold_lock("berth", &LockOptions::default()).await.unwrap();
    let LockOutcome::Acquired(guard) = held else { panic!("{held:?}") };
    let rate = Rate::new(1_000, MINUTE, 1_000).unwrap();
    verax.send(Signal::SIGSTOP);
    until("the circuit is open", async || {
        let decision = boards.allows("search", 1, rate, WithoutService::Allow).await;
        decision.undecided.is_some_and(|why| why.to_string().contains("circuit is open"))
    })
    .await;
    verax.send(Signal::SIGCONT);
    guard.release().await.unwrap();

    let entry = other.entry("a");
    let stored = entry.get_or_refill(async || {
        let write = async || Ok::<_, ()>(());
        let written = other.write_and_invalidate([Outdated::key("b")], write).await.unwrap();
        written.invalidated.unwrap();
        Ok::<_, ()>(7)
    });
    assert!(stored.await.unwrap().not_stored.is_none(), "only its own key is outdated");
}
