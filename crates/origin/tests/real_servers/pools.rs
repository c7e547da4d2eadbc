//! An origin on several servers: who is asked, who is set aside, and what is tried again.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Router;
use axum::http::HeaderMap;
use axum::routing::get;
use bytes::Bytes;
use serde_json::json;
use tokio::net::TcpListener;
use verax_core::guard::breaker::BreakerState;
use verax_core::origin::{Balance, OriginSource};
use verax_core::{Name, OriginSettings};
use verax_origin::standin::Standin;
use verax_origin::{Credentials, Origin, OriginError, OriginWrite, standin};

/// A server whose faults can be set.
struct Server {
    url: String,
    stand_in: Arc<Standin>,
}

async fn server() -> Server {
    let answer = get(async || "[]").put(async || "").delete(async || "");
    let (router, stand_in) = standin::around(Router::new().route("/boards/{harbor}", answer));
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, router).await });
    Server { url, stand_in }
}

impl Server {
    fn calls(&self) -> u64 {
        self.stand_in.counts().calls
    }

    fn set(&self, faults: serde_json::Value) {
        self.stand_in.change(&faults).unwrap();
    }
}

fn pool(servers: &[Server], balance: Balance, change: impl FnOnce(&mut OriginSettings)) -> Origin {
    let mut settings = OriginSettings::of(OriginSource::Http {
        url: format!("{}/boards/{{harbor}}", servers[0].url),
        endpoints: servers[1..].iter().map(|server| server.url.clone()).collect(),
        balance,
        slow_after: None,
    });
    change(&mut settings);
    Origin::new(&settings, &Credentials::default().into()).unwrap()
}

async fn read(origin: &Origin) -> Result<(), OriginError> {
    origin.read_guarded(&[("harbor", "aldermouth")], None, None).await.map(drop)
}

#[tokio::test]
async fn servers_rotate_and_a_failing_one_is_opened_and_retried() {
    let servers = [server().await, server().await, server().await];
    let origin = pool(&servers, Balance::RoundRobin, |settings| {
        settings.guard.failure_threshold = 2;
        settings.guard.open_for = Duration::from_millis(50);
    });
    for _ in 0..9 {
        read(&origin).await.unwrap();
    }
    assert_eq!(servers.each_ref().map(Server::calls), [3, 3, 3]);
    servers[1].set(json!({ "outage": true }));
    // Every read succeeds: what the second server fails is tried again on another.
    for _ in 0..12 {
        read(&origin).await.unwrap();
    }
    let failed = servers[1].calls() - 3;
    assert!((2..=6).contains(&failed), "{failed} reads found out");
    let state = origin.state();
    assert!(state.endpoints[1].state.breaker != BreakerState::Closed);
    assert_eq!(state.breaker, BreakerState::Closed, "the others serve");
    servers[1].set(json!({ "outage": false }));
    let started = Instant::now();
    while origin.state().endpoints[1].state.breaker != BreakerState::Closed {
        assert!(started.elapsed() < Duration::from_secs(30), "it is never tried again");
        read(&origin).await.unwrap();
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

#[tokio::test]
async fn the_server_with_the_fewest_reads_in_flight_is_picked() {
    let servers = [server().await, server().await];
    let origin = Arc::new(pool(&servers, Balance::LeastOutstanding, |_| {}));
    servers[0].set(json!({ "extra_latency_ms": 5_000 }));
    let slow = tokio::spawn({
        let origin = Arc::clone(&origin);
        async move { read(&origin).await }
    });
    let started = Instant::now();
    while origin.state().endpoints[0].state.under_way == 0 {
        assert!(started.elapsed() < Duration::from_secs(30));
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    for _ in 0..5 {
        read(&origin).await.unwrap();
    }
    assert_eq!((servers[0].calls(), servers[1].calls()), (1, 5));
    slow.abort();
}

#[tokio::test]
async fn a_slow_server_is_opened_while_another_is_healthy() {
    let servers = [server().await, server().await];
    let origin = pool(&servers, Balance::RoundRobin, |settings| {
        let OriginSource::Http { slow_after, .. } = &mut settings.source else { unreachable!() };
        *slow_after = Some(Duration::from_millis(40));
        settings.guard.failure_threshold = 1;
        settings.guard.open_for = Duration::from_secs(60);
    });
    servers[0].set(json!({ "extra_latency_ms": 80 }));
    for _ in 0..6 {
        read(&origin).await.unwrap();
    }
    // The stand-in answers the other within the limit, unless this machine is very busy.
    assert!(servers[0].calls() <= 2, "{} slow reads", servers[0].calls());
    assert!(origin.state().endpoints[0].state.breaker != BreakerState::Closed);
}

#[tokio::test]
async fn retries_have_a_budget() {
    let servers = [server().await, server().await];
    let origin = pool(&servers, Balance::RoundRobin, |settings| {
        settings.guard.failure_threshold = 1_000;
        settings.guard.retry_budget_percent = 10;
    });
    servers.iter().for_each(|server| server.set(json!({ "outage": true })));
    for _ in 0..40 {
        assert_eq!(read(&origin).await.unwrap_err().status(), Some(503));
    }
    let calls = servers[0].calls() + servers[1].calls();
    // Ten are saved up at first, and the 39 reads that find room earn three more.
    assert_eq!(calls, 40 + 13);
    let without =
        pool(&servers, Balance::RoundRobin, |settings| settings.guard.retry_budget_percent = 0);
    read(&without).await.unwrap_err();
    assert_eq!(servers[0].calls() + servers[1].calls(), calls + 1);
}

#[tokio::test]
async fn calls_beyond_max_concurrency_queue_and_beyond_the_queue_are_refused() {
    let servers = [server().await];
    let origin = Arc::new(pool(&servers, Balance::RoundRobin, |settings| {
        settings.guard.max_concurrency = 1;
        settings.guard.max_queue = 1;
        settings.total_timeout = Duration::from_secs(20);
    }));
    servers[0].set(json!({ "extra_latency_ms": 300 }));
    let calls: Vec<_> = (0..3)
        .map(|_| {
            let origin = Arc::clone(&origin);
            tokio::spawn(async move { read(&origin).await.map_err(|e| e.kind()) })
        })
        .collect();
    let mut outcomes = Vec::new();
    for call in calls {
        outcomes.push(call.await.unwrap());
    }
    outcomes.sort();
    assert_eq!(outcomes, [Ok(()), Ok(()), Err("busy")]);
    assert_eq!(servers[0].stand_in.counts().max_concurrency, 1);
}

#[tokio::test]
async fn a_credential_is_sent_and_reloaded_and_a_missing_one_names_its_place() {
    let echo = get(async |headers: HeaderMap| {
        headers.get("authorization").map(|v| v.to_str().unwrap().to_owned()).unwrap_or_default()
    });
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let mut settings = OriginSettings::http(format!("http://{}/x", listener.local_addr().unwrap()));
    tokio::spawn(async move { axum::serve(listener, Router::new().route("/x", echo)).await });
    settings.credential = Some(Name::new("tides-api").unwrap());
    let directory = tempfile::tempdir().unwrap();
    let credentials = Arc::new(Credentials::new(Some(directory.path())));
    let origin = Origin::new(&settings, &credentials).unwrap();
    let missing = origin.read_guarded(&[], None, None).await.unwrap_err();
    assert_eq!(missing.kind(), "credential");
    assert!(missing.to_string().contains("tides-api"), "{missing}");
    assert_eq!(origin.state().breaker, BreakerState::Closed, "it says nothing about the origin");
    std::fs::write(directory.path().join("tides-api"), "Bearer of tides\n").unwrap();
    assert_eq!(origin.read_guarded(&[], None, None).await.unwrap().value, "Bearer of tides");
}

#[tokio::test]
async fn writes_go_to_one_server_and_are_not_retried() {
    let servers = [server().await, server().await];
    let origin = pool(&servers, Balance::RoundRobin, |_| {});
    let value = Bytes::from_static(b"[1]");
    let put = OriginWrite::Put { value: &value, media_type: "application/json" };
    let values = [("harbor", "aldermouth")];
    origin.write_guarded(&values, put, None).await.unwrap();
    origin.write_guarded(&values, OriginWrite::Delete, None).await.unwrap();
    assert_eq!((servers[0].calls(), servers[1].calls()), (1, 1));
    servers.iter().for_each(|server| server.set(json!({ "outage": true })));
    let refused = origin.write_guarded(&values, put, None).await.unwrap_err();
    assert_eq!((refused.status(), refused.is_certain()), (Some(503), true));
    assert_eq!(servers[0].calls() + servers[1].calls(), 3);
}

#[test]
fn servers_are_plain_addresses_without_duplicates() {
    for (endpoint, says) in [
        ("ftp://h:1", "not the address of a server"),
        ("http://h:1/path", "not the address of a server"),
        ("http://user@h:1", "not the address of a server"),
        ("http://a:1", "named twice"),
    ] {
        let settings = OriginSettings::of(OriginSource::Http {
            url: "http://a:1/{key}".into(),
            endpoints: vec![endpoint.into()],
            balance: Balance::RoundRobin,
            slow_after: None,
        });
        let error = Origin::new(&settings, &Credentials::default().into()).unwrap_err();
        assert!(error.to_string().contains(says), "{endpoint}: {error}");
    }
}
