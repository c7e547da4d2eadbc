//! Refill permits: one refill for many callers, whoever fails, dies or comes too late.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use reqwest::{Method, RequestBuilder, Response};
use rstest::rstest;
use serde_json::{Value, json};
use tokio::sync::Semaphore;
use verax_client::{Cache, CacheOptions, PermitOptions, PermitOutcome, PutOptions, Source};
use verax_e2e::{HeldOrigin, Verax, until};

fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "10m"]).done();
    verax
}

fn patient(connections: usize) -> CacheOptions {
    let long = Duration::from_secs(120);
    CacheOptions {
        connections,
        timeout: long,
        bound: long,
        refill_wait: long,
        ..CacheOptions::default()
    }
}

fn boards(verax: &Verax, options: CacheOptions) -> Cache {
    verax.client().cache("ferrydesk", "boards", options).unwrap()
}

async fn waiting(verax: &Verax) -> u64 {
    let permits: Value =
        over_http(verax, Method::GET, "permits", "").send().await.unwrap().json().await.unwrap();
    permits["items"].as_array().unwrap().iter().map(|p| p["waiting"].as_u64().unwrap()).sum()
}

fn over_http(verax: &Verax, method: Method, kind: &str, key: &str) -> RequestBuilder {
    let at = format!("{}/v1/tenants/ferrydesk/namespaces/boards/{kind}", verax.url());
    let at = if key.is_empty() { at } else { format!("{at}/{key}") };
    // The client has installed what TLS needs.
    verax.client();
    reqwest::Client::new().request(method, at).bearer_auth(verax.token())
}

async fn claim(verax: &Verax, wait: u64, body: Value) -> Response {
    let request = over_http(verax, Method::POST, "permits", "k").json(&body);
    request.header("prefer", format!("wait={wait}")).send().await.unwrap()
}

async fn permit(verax: &Verax, lease: f64) -> u64 {
    let response = claim(verax, 0, json!({ "lease_seconds": lease })).await;
    assert_eq!(response.status(), 201);
    response.json::<Value>().await.unwrap()["permit"].as_u64().unwrap()
}

async fn store(verax: &Verax, permit: u64, value: &'static str) -> Response {
    let request = over_http(verax, Method::PUT, "entries", "k").body(value);
    request.header("verax-permit", permit).send().await.unwrap()
}

async fn problem(response: Response) -> String {
    let body: Value = response.json().await.unwrap();
    body["type"].as_str().unwrap().rsplit([':', '/']).next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_thousand_callers_make_one_origin_call() {
    let origin = HeldOrigin::start("07:10 Saltmere").await;
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let at = origin.at();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &at, "--total-timeout", "2m"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--origin", "desk"]).done();
    let cache = boards(&verax, patient(24));
    let callers: Vec<_> = (0..10_000)
        .map(|_| {
            let cache = cache.clone();
            tokio::spawn(async move { cache.get("cold").await })
        })
        .collect();
    until("all are waiting", async || waiting(&verax).await == 10_000).await;
    origin.let_go(1);
    let mut sources = [0, 0];
    for caller in callers {
        let hit = caller.await.unwrap().unwrap().unwrap();
        assert_eq!(&hit.value[..], b"07:10 Saltmere");
        sources[usize::from(hit.source == Source::Joined)] += 1;
    }
    assert_eq!((sources, origin.calls()), ([1, 9_999], 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn services_that_refill_themselves_share_one_refill() {
    let verax = started();
    let (gate, refills) = (Arc::new(Semaphore::new(0)), Arc::new(AtomicU64::new(0)));
    // Four instances with five hundred callers each.
    let instances: Vec<Cache> = (0..4).map(|_| boards(&verax, patient(2))).collect();
    let callers: Vec<_> = (0..2_000)
        .map(|n| {
            let (cache, gate, refills) =
                (instances[n % 4].clone(), Arc::clone(&gate), Arc::clone(&refills));
            tokio::spawn(async move {
                let refill = async || {
                    refills.fetch_add(1, Ordering::SeqCst);
                    gate.acquire().await.unwrap().forget();
                    Ok::<_, std::io::Error>(vec!["07:10".to_owned()])
                };
                cache.get_or_refill("cold", Duration::from_secs(60), refill).await.unwrap()
            })
        })
        .collect();
    // One caller of each instance asks Verax, and one of those refills.
    until("the others are waiting", async || waiting(&verax).await == 3).await;
    gate.add_permits(1);
    for caller in callers {
        assert_eq!(caller.await.unwrap(), ["07:10"]);
    }
    assert_eq!(refills.load(Ordering::SeqCst), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failed_or_abandoned_refill_passes_to_the_next_caller() {
    let verax = started();
    // Of three instances, since callers of one share what they ask for.
    let [cache, second, third] = [(); 3].map(|()| boards(&verax, patient(1)));
    let lifetime = Duration::from_secs(60);
    let value = || Ok::<_, &str>("07:10".to_owned());
    // The first one is given up midway, the second one fails, the third one brings the value.
    let first = tokio::spawn({
        let cache = cache.clone();
        async move {
            let never = async || std::future::pending::<Result<String, &str>>().await;
            cache.get_or_refill("k", lifetime, never).await
        }
    });
    let live = async |n: usize| {
        let permits: Value = over_http(&verax, Method::GET, "permits", "")
            .send()
            .await
            .unwrap()
            .json()
            .await
            .unwrap();
        let waiting = permits["items"][0]["waiting"].as_u64();
        waiting == Some(n as u64)
    };
    until("the first one refills", async || live(0).await).await;
    let failing = tokio::spawn({
        let cache = second.clone();
        async move { cache.get_or_refill("k", lifetime, async || Err::<String, _>("no ferry")).await }
    });
    until("the second one waits", async || live(1).await).await;
    let last = tokio::spawn({
        let cache = third.clone();
        async move { cache.get_or_refill("k", lifetime, async || value()).await }
    });
    until("the third one waits", async || live(2).await).await;
    let began = Instant::now();
    first.abort();
    assert_eq!(failing.await.unwrap(), Err("no ferry"));
    assert_eq!(last.await.unwrap().unwrap(), "07:10");
    assert!(began.elapsed() < Duration::from_secs(25), "nobody waited for the permit to expire");
    let stored = cache.get_json::<String>("k").await.unwrap();
    assert_eq!(stored.as_deref(), Some("07:10"));
    let shown: Value =
        over_http(&verax, Method::GET, "permits", "").send().await.unwrap().json().await.unwrap();
    let outcomes: Vec<&str> = shown["recent"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| r["outcome"].as_str().unwrap())
        .collect();
    assert_eq!(outcomes, ["stored", "failed", "failed"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_read_before_an_invalidation_is_not_stored_after_it() {
    let verax = started();
    let cache = boards(&verax, patient(1));
    for how in ["delete", "put", "tag", "prefix", "clear"] {
        let (gate, reached) = (Arc::new(Semaphore::new(0)), Arc::new(Semaphore::new(0)));
        let reading = tokio::spawn({
            let (cache, gate, reached) = (cache.clone(), Arc::clone(&gate), Arc::clone(&reached));
            async move {
                let refill = async || {
                    reached.add_permits(1);
                    gate.acquire().await.unwrap().forget();
                    Ok::<_, std::io::Error>("old".to_owned())
                };
                cache.get_or_refill("k", Duration::from_secs(60), refill).await.unwrap()
            }
        });
        reached.acquire().await.unwrap().forget();
        match how {
            "delete" => drop(cache.delete("k").await.unwrap()),
            "put" => drop(cache.put_json("k", &"new", PutOptions::default()).await.unwrap()),
            "tag" => cache.invalidate_tag("anything").await.unwrap(),
            "prefix" => {
                let clear = ["clear", "ferrydesk/boards", "--prefix", "k", "--yes"];
                drop(verax.run(&clear).done());
            }
            _ => drop(verax.run(&["clear", "ferrydesk/boards", "--yes"]).done()),
        }
        gate.add_permits(1);
        assert_eq!(reading.await.unwrap(), "old", "it asked before the invalidation");
        let expected = (how == "put").then(|| "new".to_owned());
        assert_eq!(cache.get_json::<String>("k").await.unwrap(), expected, "{how}");
        cache.delete("k").await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_permit_protocol_over_http() {
    let verax = started();
    // One caller gets the permit; the others are told when to retry, or wait.
    let number = permit(&verax, 30.0).await;
    let later = claim(&verax, 0, json!({})).await;
    let retry: u64 = later.headers()["retry-after"].to_str().unwrap().parse().unwrap();
    assert!(later.status() == 423 && (1..=30).contains(&retry));
    assert_eq!(problem(later).await, "being-refilled");
    let (joined, stored) = tokio::join!(claim(&verax, 60, json!({})), async {
        until("it waits", async || waiting(&verax).await == 1).await;
        store(&verax, number, "value").await
    });
    assert_eq!((stored.status().as_u16(), joined.status().as_u16()), (201, 200));
    assert!(joined.headers()["cache-status"].to_str().unwrap().contains("collapsed"));
    assert_eq!(joined.headers()["preference-applied"], "wait=60");
    assert_eq!(joined.text().await.unwrap(), "value");
    // It is there now, and a permit that was used is over.
    assert_eq!(claim(&verax, 0, json!({})).await.status(), 200);
    let again = store(&verax, number, "again").await;
    assert_eq!((again.status().as_u16(), problem(again).await.as_str()), (409, "permit-expired"));
    // An invalidation voids it, and says so.
    over_http(&verax, Method::DELETE, "entries", "k").send().await.unwrap();
    let number = permit(&verax, 30.0).await;
    over_http(&verax, Method::DELETE, "entries", "k").send().await.unwrap();
    let refused = store(&verax, number, "old").await;
    assert_eq!(
        (refused.status().as_u16(), problem(refused).await.as_str()),
        (409, "permit-voided")
    );
    assert_eq!(over_http(&verax, Method::GET, "entries", "k").send().await.unwrap().status(), 404);
    // A holder that dies is replaced when its time is over; it comes too late then.
    let dead = permit(&verax, 0.3).await;
    let next = claim(&verax, 60, json!({})).await;
    assert_eq!(next.status(), 201);
    let next = next.json::<Value>().await.unwrap()["permit"].as_u64().unwrap();
    let late = store(&verax, dead, "late").await;
    assert_eq!((late.status().as_u16(), problem(late).await.as_str()), (409, "permit-expired"));
    // It may fail for all who wait.
    let (told, ()) = tokio::join!(claim(&verax, 60, json!({})), async {
        until("it waits", async || waiting(&verax).await == 1).await;
        let which = format!("k?permit={next}&fail=all");
        let given = over_http(&verax, Method::DELETE, "permits", &which);
        assert_eq!(given.send().await.unwrap().status(), 204);
    });
    assert_eq!((told.status().as_u16(), problem(told).await.as_str()), (502, "refill-abandoned"));
    // What is written meanwhile is what those who wait get.
    let number = permit(&verax, 30.0).await;
    let (told, _) = tokio::join!(claim(&verax, 60, json!({})), async {
        until("it waits", async || waiting(&verax).await == 1).await;
        over_http(&verax, Method::PUT, "entries", "k").body("written").send().await.unwrap()
    });
    assert_eq!(told.text().await.unwrap(), "written");
    assert_eq!(problem(store(&verax, number, "old").await).await, "permit-voided");
    // Nonsense is refused with what is wrong.
    for body in [json!({ "lease_seconds": 0 }), json!({ "lease_seconds": 1000 })] {
        assert_eq!(claim(&verax, 0, body).await.status(), 422);
    }
    let nonsense = over_http(&verax, Method::PUT, "entries", "k").header("verax-permit", "soon");
    assert_eq!(nonsense.body("v").send().await.unwrap().status(), 400);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_http_client_acquires_stores_and_releases() {
    let verax = started();
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    let options = PermitOptions::default();
    let PermitOutcome::Permit(first) = boards.acquire_permit("k", &options).await.unwrap() else {
        panic!()
    };
    let PermitOutcome::Later(time) = boards.acquire_permit("k", &options).await.unwrap() else {
        panic!()
    };
    assert!(time <= options.lease && !time.is_zero());
    let patient = PermitOptions { wait: Duration::from_secs(60), ..PermitOptions::default() };
    let waiting = tokio::spawn({
        let (boards, patient) = (boards.clone(), patient.clone());
        async move { boards.acquire_permit("k", &patient).await }
    });
    until("it waits", async || waiting_of(&boards).await == 1).await;
    boards.release_permit("k", first.permit, false).await.unwrap();
    let PermitOutcome::Permit(second) = waiting.await.unwrap().unwrap() else { panic!() };
    let late = boards.put_with_permit("k", "old", first.permit, PutOptions::default()).await;
    assert_eq!(late.unwrap_err().status(), Some(409));
    boards.put_with_permit("k", "new", second.permit, PutOptions::default()).await.unwrap();
    let PermitOutcome::Value(found) = boards.acquire_permit("k", &options).await.unwrap() else {
        panic!()
    };
    assert_eq!((&found.value[..], found.source), (&b"new"[..], Source::Hit));
    let none = PutOptions {
        media_type: Some("application/vnd.verax.no-value".into()),
        ..PutOptions::default()
    };
    boards.put("k", "", none).await.unwrap();
    assert!(matches!(boards.acquire_permit("k", &options).await.unwrap(), PermitOutcome::NoValue));
    let refresh = PermitOptions { refresh: true, ..options };
    assert!(matches!(
        boards.acquire_permit("k", &refresh).await.unwrap(),
        PermitOutcome::Permit(_)
    ));
}

async fn waiting_of(boards: &verax_client::Namespace) -> u64 {
    boards.permits().await.unwrap().items.iter().map(|permit| permit.waiting).sum()
}

/// What a process is at when it is killed.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Step {
    LockOutcome,
    Reading,
    Stored,
}

/// A holder in a process of its own: it tells by files how far it is, and goes on when it may. It
/// is this test run again, since no other program stops where a test wants it to.
#[tokio::test]
async fn permit_holder_process() {
    let Ok(directory) = std::env::var("VERAX_TEST_HOLDER") else { return };
    let directory = std::path::PathBuf::from(directory);
    let tell = |step: Step| std::fs::write(directory.join(format!("{step:?}")), "").unwrap();
    let stops_at = std::env::var("VERAX_TEST_STOPS_AT").unwrap();
    let pause = async |step: Step| {
        tell(step);
        if format!("{step:?}") == stops_at {
            std::future::pending::<()>().await;
        }
    };
    let client = verax_client::Client::from_environment().unwrap();
    let boards = client.namespace("ferrydesk", "boards").unwrap();
    let options = PermitOptions { lease: Duration::from_secs(2), ..PermitOptions::default() };
    let PermitOutcome::Permit(permit) = boards.acquire_permit("k", &options).await.unwrap() else {
        panic!()
    };
    pause(Step::LockOutcome).await;
    // Half an answer: the connection is open and the value not there yet.
    pause(Step::Reading).await;
    let value = "from the one that was killed";
    boards.put_with_permit("k", value, permit.permit, PutOptions::default()).await.unwrap();
    pause(Step::Stored).await;
}

#[rstest]
#[case(Step::LockOutcome, "from the next")]
#[case(Step::Reading, "from the next")]
#[case(Step::Stored, "from the one that was killed")]
#[tokio::test(flavor = "multi_thread")]
async fn a_holder_that_is_killed_is_replaced(#[case] step: Step, #[case] value: &'static str) {
    let verax = started();
    let place = tempfile::tempdir().unwrap();
    let (_, module) = module_path!().split_once("::").unwrap();
    let mut holder = std::process::Command::new(std::env::current_exe().unwrap())
        .args(["--exact", &format!("{module}::permit_holder_process"), "--nocapture"])
        .env("VERAX_TEST_HOLDER", place.path())
        .env("VERAX_TEST_STOPS_AT", format!("{step:?}"))
        .env("VERAX_URL", verax.url())
        .env("VERAX_TOKEN", verax.token())
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let file = place.path().join(format!("{step:?}"));
    until("the holder is that far", async || file.exists()).await;
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    let patient = PermitOptions { wait: Duration::from_secs(60), ..PermitOptions::default() };
    let callers: Vec<_> = (0..20)
        .map(|_| {
            let (boards, patient) = (boards.clone(), patient.clone());
            tokio::spawn(async move {
                match boards.acquire_permit("k", &patient).await.unwrap() {
                    PermitOutcome::Value(found) => found.value,
                    PermitOutcome::Permit(permit) => {
                        let stored = PutOptions::default();
                        let put = boards.put_with_permit("k", value, permit.permit, stored);
                        put.await.unwrap();
                        value.into()
                    }
                    other => panic!("{other:?}"),
                }
            })
        })
        .collect();
    holder.kill().unwrap();
    holder.wait().unwrap();
    for caller in callers {
        assert_eq!(caller.await.unwrap(), value, "nobody is forgotten");
    }
}
