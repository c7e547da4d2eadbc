//! Reading through: one refill for each key, no old data, and origins that misbehave.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use futures_util::future::join_all;
use rstest::rstest;
use tokio::sync::Notify;
use verax_client::{Client, ClientError, Namespace, PutOptions, Source};
use verax_e2e::{Verax, until};

/// An origin whose answers a test decides.
#[derive(Debug, Default)]
struct Desk {
    calls: AtomicU64,
    version: AtomicU64,
    /// How many calls wait for `open` before they answer.
    held: AtomicUsize,
    open: Notify,
    lease: std::sync::atomic::AtomicBool,
    status: AtomicU64,
    seen: Mutex<HashMap<String, String>>,
}

async fn answer(
    State(desk): State<Arc<Desk>>,
    Path(key): Path<String>,
    headers: HeaderMap,
) -> Response {
    desk.calls.fetch_add(1, Ordering::SeqCst);
    if let Some(trace) = headers.get("traceparent") {
        desk.seen.lock().unwrap().insert(key.clone(), trace.to_str().unwrap().to_owned());
    }
    // The value is read first, as a query would, and sent only when the test lets it go.
    let version = desk.version.load(Ordering::SeqCst);
    if desk.lease.load(Ordering::SeqCst) {
        let opened = desk.open.notified();
        desk.held.fetch_add(1, Ordering::SeqCst);
        opened.await;
    }
    match desk.status.load(Ordering::SeqCst) {
        0 => format!("{key} v{version}").into_response(),
        status => StatusCode::from_u16(status as u16).unwrap().into_response(),
    }
}

async fn desk() -> (Arc<Desk>, String) {
    let desk = Arc::new(Desk::default());
    let router = Router::new().route("/{key}", get(answer)).with_state(Arc::clone(&desk));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    (desk, format!("http://{address}"))
}

/// A service with one namespace over an origin.
fn over(origin: &str, policy: &[&str]) -> (Verax, Namespace) {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let at = format!("{origin}/{{key}}");
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &at, "--total-timeout", "1m"]).done();
    let mut create = vec!["namespace", "create", "ferrydesk/boards", "--origin", "desk"];
    create.extend(policy);
    verax.run(&create).done();
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    (verax, boards)
}

async fn text(namespace: &Namespace, key: &str) -> (String, Source) {
    let found = namespace.get(key).await.unwrap().unwrap();
    (String::from_utf8(found.value.to_vec()).unwrap(), found.source)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_callers_on_a_cold_key_make_one_origin_call() {
    let (desk, url) = desk().await;
    let (verax, boards) = over(&url, &[]);
    desk.lease.store(true, Ordering::SeqCst);
    let calls = (0..1_000).map(|_| {
        let boards = boards.clone();
        tokio::spawn(async move { boards.get("hot").await })
    });
    let calls: Vec<_> = calls.collect();
    let waiting = async || {
        let url = format!("{}/metrics", verax.url());
        let metrics = reqwest::Client::new().get(url).bearer_auth(verax.token()).send().await;
        metrics.unwrap().text().await.unwrap().contains("verax_refill_waiters 1000")
    };
    until("all thousand wait", waiting).await;
    desk.open.notify_waiters();
    let answers: Vec<_> =
        join_all(calls).await.into_iter().map(|a| a.unwrap().unwrap().unwrap()).collect();
    assert_eq!(desk.calls.load(Ordering::SeqCst), 1);
    assert!(answers.iter().all(|found| found.value == "hot v0"));
    let own = answers.iter().filter(|found| found.source == Source::Origin).count();
    let joined = answers.iter().filter(|found| found.source == Source::Joined).count();
    assert_eq!((own, joined), (1, 999));
}

#[rstest]
#[case::deleted("delete")]
#[case::written("put")]
#[case::cleared("clear")]
#[tokio::test(flavor = "multi_thread")]
async fn a_value_read_before_an_invalidation_is_not_stored_after_it(#[case] how: &str) {
    let (desk, url) = desk().await;
    let (_verax, boards) = over(&url, &[]);
    desk.lease.store(true, Ordering::SeqCst);
    let reader = boards.clone();
    let early = tokio::spawn(async move { reader.get("k").await });
    until("the origin is being read", async || desk.held.load(Ordering::SeqCst) == 1).await;

    // The data changes, and whoever changed it says so, while the old value is on its way.
    desk.version.store(1, Ordering::SeqCst);
    match how {
        "delete" => drop(boards.delete("k").await.unwrap()),
        "clear" => drop(boards.clear().await.unwrap()),
        _ => drop(boards.put("k", "k v1", PutOptions::default()).await.unwrap()),
    }
    desk.lease.store(false, Ordering::SeqCst);
    desk.open.notify_waiters();
    let early = early.await.unwrap().unwrap().unwrap();
    assert!(!early.stored, "{early:?}");
    let (late, _) = text(&boards, "k").await;
    assert_eq!(late, "k v1");
}

#[tokio::test(flavor = "multi_thread")]
async fn callers_that_disconnect_do_not_cancel_a_refill_that_others_await() {
    let (desk, url) = desk().await;
    let (_verax, boards) = over(&url, &[]);
    desk.lease.store(true, Ordering::SeqCst);
    let first = tokio::spawn({
        let boards = boards.clone();
        async move { boards.get("k").await }
    });
    until("the origin is being read", async || desk.held.load(Ordering::SeqCst) == 1).await;
    let second = tokio::spawn({
        let boards = boards.clone();
        async move { boards.get("k").await }
    });
    first.abort();
    assert!(first.await.is_err());
    desk.lease.store(false, Ordering::SeqCst);
    desk.open.notify_waiters();
    assert_eq!(second.await.unwrap().unwrap().unwrap().value, "k v0");
    assert_eq!(desk.calls.load(Ordering::SeqCst), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn stale_copies_bridge_a_refresh_and_an_outage() {
    let (desk, url) = desk().await;
    let policy = ["--max-age", "300ms", "--stale-while-revalidate", "1h", "--stale-if-error", "1h"];
    let (verax, boards) = over(&url, &policy);
    assert_eq!(text(&boards, "k").await, ("k v0".into(), Source::Origin));
    desk.version.store(1, Ordering::SeqCst);
    // Once stale, the previous copy is served at once, and a refresh brings the new one.
    until("a stale copy is served", async || text(&boards, "k").await.1 == Source::Stale).await;
    until("the refresh is in", async || text(&boards, "k").await.0 == "k v1").await;

    // Without stale-while-revalidate, the origin is asked first, and the copy is kept for its
    // failures.
    verax.run(&["namespace", "change", "ferrydesk/boards", "--stale-while-revalidate", "0"]).done();
    let refresh = verax_client::ReadOptions { refresh: true, ..Default::default() };
    boards.look_up("k", refresh).await.unwrap();
    desk.status.store(503, Ordering::SeqCst);
    let served = async || text(&boards, "k").await == ("k v1".into(), Source::StaleOnError);
    until("the copy bridges the outage", served).await;
    // What was never read cannot be bridged, and what is gone is not served.
    let cold = boards.get("cold").await.unwrap_err();
    assert_eq!((cold.status(), cold.problem()), (Some(502), Some("origin-failed")));
    desk.status.store(410, Ordering::SeqCst);
    assert!(boards.get("k").await.unwrap().is_none());
    desk.status.store(0, Ordering::SeqCst);
    assert_eq!(text(&boards, "cold").await.1, Source::Origin);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_callers_trace_context_reaches_the_origin() {
    let (desk, url) = desk().await;
    let (verax, _) = over(&url, &[]);
    let trace = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    let path = "v1/tenants/ferrydesk/namespaces/boards/entries/traced";
    let request = reqwest::Client::new().get(format!("{}/{path}", verax.url()));
    let answer =
        request.bearer_auth(verax.token()).header("traceparent", trace).send().await.unwrap();
    assert_eq!(answer.status().as_u16(), 200);
    assert_eq!(desk.seen.lock().unwrap()["traced"], trace);
}

/// What a caller is told when the origin is at fault, by status and problem.
async fn told(client: &Client, key: &str) -> (u16, String, String) {
    let boards = client.namespace("ferrydesk", "boards").unwrap();
    match boards.get(key).await {
        Err(ClientError::Refused(problem)) => {
            (problem.status, problem.name().to_owned(), problem.detail.clone())
        }
        other => panic!("{other:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failing_origin_is_named_without_its_address() {
    let (desk, url) = desk().await;
    let (verax, _) = over(&url, &["--max-value", "3B"]);
    let client = verax.client();
    let too_large = told(&client, "k").await;
    assert_eq!((too_large.0, too_large.1.as_str()), (502, "origin-failed"));
    desk.status.store(500, Ordering::SeqCst);
    assert_eq!(told(&client, "k").await.2, "the origin answered 500");
    // Slower than the second that it is given.
    verax.run(&["origin", "change", "ferrydesk/desk", "--total-timeout", "1s"]).done();
    desk.lease.store(true, Ordering::SeqCst);
    let slow = told(&client, "k").await;
    assert_eq!((slow.0, slow.1.as_str()), (504, "origin-timeout"));

    // Something that does not speak HTTP.
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let garbled = format!("http://{}/{{key}}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        use tokio::io::AsyncWriteExt;
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.write_all(b"ahoy there\r\n\r\n").await;
        }
    });
    verax.run(&["origin", "change", "ferrydesk/desk", "--at", &garbled]).done();
    let garbled = told(&client, "k").await;
    assert!(garbled.2.contains("complete HTTP response"), "{garbled:?}");

    // Nobody there at all.
    verax.run(&["origin", "change", "ferrydesk/desk", "--at", "http://127.0.0.1:1/{key}"]).done();
    let nobody = told(&client, "k").await;
    assert_eq!(nobody, (502, "origin-failed".into(), "no connection to the origin".into()));
    for detail in [&too_large.2, &slow.2, &garbled.2, &nobody.2] {
        assert!(!detail.contains("127.0.0.1"), "{detail}");
    }
    // The people who run it find the address where they look: in the origin's settings.
    assert!(verax.run(&["origin", "list", "ferrydesk"]).done().contains("127.0.0.1:1"));
    tokio::time::timeout(Duration::from_secs(5), async { drop(verax) }).await.unwrap();
}
