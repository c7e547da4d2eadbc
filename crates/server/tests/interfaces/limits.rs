//! The bounds on what clients may take: connections, requests in flight, silence, and memory for
//! values on their way.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use crate::wire_fixture::{Fixture, Wire, get_of, put_frame, until};
use axum::Router;
use axum::routing::get;
use serde_json::json;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use verax_api::FailureKind;
use verax_engine::EngineOptions;
use verax_engine::locks::LockCounts;
use verax_server::{ConnectionLimits, WireLimits};
use verax_service::ServiceOptions;
use verax_wire::Request;

fn in_flight_limit(bytes: u64) -> ServiceOptions {
    let engine = EngineOptions { in_flight_limit: bytes, ..Default::default() };
    ServiceOptions { engine, ..Default::default() }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_beyond_the_limit_is_refused_and_displaces_none() {
    let limits = WireLimits {
        connections: ConnectionLimits { connections: 2, per_address: 2 },
        ..WireLimits::default()
    };
    let fixture = Fixture::start(limits, ServiceOptions::default()).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut first = fixture.opened().await;
    let second = fixture.opened().await;
    let mut third = fixture.connect().await;
    third.refused_as(FailureKind::Overloaded).await;
    assert_eq!(third.next().await, None);
    first.send(0, 5, Request::Ping).await;
    assert_eq!(first.next().await, Some((5, "Pong".into())));
    // A place that was left is free again.
    drop(second);
    loop {
        let mut next = fixture.connect().await;
        if next.next().await.is_some_and(|(_, said)| said.starts_with("Welcome")) {
            break;
        }
    }
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn waiting_requests_are_bounded_and_all_answered() {
    let (gate, now, most) = (Arc::new(Semaphore::new(0)), AtomicUsize::new(0), AtomicUsize::new(0));
    let counts = Arc::new((now, most));
    let (opened, counted) = (Arc::clone(&gate), Arc::clone(&counts));
    let slow = get(async move || {
        let (now, most) = &*counted;
        most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
        opened.acquire().await.unwrap().forget();
        now.fetch_sub(1, Ordering::SeqCst);
        "slow"
    });
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let origin = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, Router::new().route("/{key}", slow)).await });

    let limits = WireLimits { in_flight: 3, ..WireLimits::default() };
    let fixture = Fixture::start(limits, ServiceOptions::default()).await;
    let request = json!({ "name": "desk", "url": format!("http://{origin}/{{key}}") });
    let request = serde_json::from_value(request).unwrap();
    fixture.client().create_origin("ferrydesk", &request).await.unwrap();
    fixture
        .namespace(json!({ "name": "boards", "policy": { "origin": { "name": "desk" } } }))
        .await;
    let mut wire = fixture.opened().await;
    for id in 10..20 {
        wire.send(1, id, get_of(&format!("cold-{id}"))).await;
    }
    until("three are waiting", || counts.0.load(Ordering::SeqCst) == 3).await;
    gate.add_permits(10);
    let mut answered = Vec::new();
    while answered.len() < 10 {
        let (id, said) = wire.next().await.unwrap();
        assert!(said.starts_with("Value"), "{said}");
        answered.push(id);
    }
    answered.sort_unstable();
    assert_eq!(answered, (10..20).collect::<Vec<u32>>());
    assert_eq!(counts.1.load(Ordering::SeqCst), 3, "never more than allowed");
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn silent_connections_are_closed_and_active_ones_stay() {
    let short = Duration::from_millis(500);
    let limits = WireLimits { idle: short, hello: short, ..WireLimits::default() };
    let fixture = Fixture::start(limits, ServiceOptions::default()).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut never_said_hello =
        Wire { stream: TcpStream::connect(fixture.wire).await.unwrap(), received: Vec::new() };
    let mut silent = fixture.opened().await;
    let mut alive = fixture.opened().await;
    let signs_of_life = async {
        for id in 0.. {
            alive.send(0, id, Request::Ping).await;
            assert_eq!(alive.next().await, Some((id, "Pong".into())));
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    tokio::select! {
        () = signs_of_life => {}
        ended = async { (never_said_hello.next().await, silent.next().await) } => {
            assert_eq!(ended, (None, None));
        }
    }
    alive.send(0, 7, Request::Ping).await;
    assert!(alive.next().await.is_some());
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn announced_bytes_cost_nothing_and_an_oversized_request_is_refused_alone() {
    // A tenant's share is half of it.
    let fixture = Fixture::start(WireLimits::default(), in_flight_limit(2 << 20)).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let taken = || fixture.service.engine().in_flight().taken();
    let frame = put_frame(900 << 10);
    // Three that announce a large value and send little of it leave room for a fourth.
    let mut silent = Vec::new();
    for _ in 0..3 {
        let mut wire = fixture.opened().await;
        wire.stream.write_all(&frame[..1_000]).await.unwrap();
        silent.push(wire);
    }
    until("they are noticed", || taken() >= 3 << 18).await;
    assert!(taken() < 900 << 10, "{}", taken());
    let mut fourth = fixture.opened().await;
    fourth.stream.write_all(&put_frame(200 << 10)).await.unwrap();
    assert!(fourth.next().await.unwrap().1.starts_with("Done"));
    drop(silent);
    until("what they took is given back", || taken() == 0).await;

    // One that has sent most of its value leaves no room for another one in this tenant.
    let mut first = fixture.opened().await;
    let (most, rest) = frame.split_at(880 << 10);
    first.stream.write_all(most).await.unwrap();
    until("it has arrived", || taken() >= 880 << 10).await;
    // That request alone is refused, while it arrives; its connection goes on.
    let mut second = fixture.opened().await;
    second.stream.write_all(&frame).await.unwrap();
    second.stream.write_all(&put_frame(60 << 10)).await.unwrap();
    let (id, said) = second.next().await.unwrap();
    assert!(
        id == 9 && said.contains(&format!("code: {}", FailureKind::Overloaded.code())),
        "{said}"
    );
    assert!(second.next().await.unwrap().1.starts_with("Done"), "small ones go on");
    let url = |tenant: &str| {
        format!("http://{}/v1/tenants/{tenant}/namespaces/boards/entries/k", fixture.http)
    };
    let http = reqwest::Client::new();
    let put = async |tenant: &str, body: Vec<u8>| {
        let request = http.put(url(tenant)).bearer_auth(&fixture.token).body(body);
        request.send().await.unwrap()
    };
    let refused = put("ferrydesk", vec![7; 700 << 10]).await;
    assert_eq!(
        (refused.status().as_u16(), &refused.headers()["retry-after"]),
        (503, &"1".parse().unwrap())
    );
    assert_eq!(put("ferrydesk", vec![7; 60 << 10]).await.status(), 201, "small ones go on");
    // One that sends no length is counted as it grows.
    let pieces = (0..10).map(|_| Ok::<_, std::io::Error>(vec![7u8; 64 << 10]));
    let body = reqwest::Body::wrap_stream(futures_util::stream::iter(pieces));
    let growing = http.put(url("ferrydesk")).bearer_auth(&fixture.token).body(body).send().await;
    assert!(growing.is_err() || growing.is_ok_and(|r| r.status() == 503));
    // Another tenant has its own share.
    fixture.client().create_tenant("tideline").await.unwrap();
    let boards = serde_json::from_value(json!({ "name": "boards" })).unwrap();
    fixture.client().create_namespace("tideline", &boards).await.unwrap();
    assert_eq!(put("tideline", vec![7; 900 << 10]).await.status(), 201);

    first.stream.write_all(rest).await.unwrap();
    assert!(first.next().await.unwrap().1.starts_with("Done"));
    until("everything is given back", || taken() == 0).await;
    assert_eq!(put("ferrydesk", vec![7; 900 << 10]).await.status(), 204);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn unread_replies_are_counted_however_small() {
    let fixture = Fixture::start(WireLimits::default(), in_flight_limit(4 << 20)).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut wire = fixture.opened().await;
    wire.stream.write_all(&put_frame(30 << 10)).await.unwrap();
    assert!(wire.next().await.unwrap().1.starts_with("Done"));
    // Batches are answered by tasks of their own, whose replies nobody takes here.
    let gets = [get_of("large"); 8];
    for id in 0..100 {
        wire.send(1, id, Request::Batch(verax_wire::BatchOperations::of(&gets))).await;
    }
    let taken = || fixture.service.engine().in_flight().taken();
    until("replies wait to be taken", || taken() > 100 << 10).await;
    // A connection has a quarter of all.
    for _ in 0..50 {
        assert!(taken() <= 1 << 20, "{}", taken());
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    // Taken in the end, each is the value or a refusal.
    let mut values = 0;
    for _ in 0..100 {
        let (_, said) = wire.next().await.unwrap();
        let busy = said.contains(&format!("code: {}", FailureKind::Overloaded.code()));
        assert!(busy || said.starts_with("Batch"), "{said}");
        values += usize::from(!busy);
    }
    assert!(values > 3, "{values} values");
    until("everything is given back", || taken() == 0).await;
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_peer_that_reads_no_replies_is_dropped_and_frees_its_memory() {
    let limits = WireLimits { idle: Duration::from_millis(500), ..WireLimits::default() };
    let options = in_flight_limit(4 << 20);
    let fixture = Fixture::start(limits, options).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut wire = fixture.opened().await;
    wire.stream.write_all(&put_frame(900 << 10)).await.unwrap();
    assert!(wire.next().await.unwrap().1.starts_with("Done"));
    // More than the network's own buffers take, and none of it is read.
    for id in 0..40 {
        wire.send(1, id, get_of("large")).await;
    }
    until("values wait to be taken", || fixture.service.engine().in_flight().taken() > 0).await;
    until("it is given up", || fixture.service.engine().in_flight().taken() == 0).await;
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_idle_connection_ends_with_its_token() {
    let mut fixture = Fixture::start(WireLimits::default(), ServiceOptions::default()).await;
    fixture.namespace(serde_json::json!({ "name": "boards" })).await;
    let admin = fixture.client();
    let scopes = vec!["read:ferrydesk".to_owned(), "write:ferrydesk".to_owned()];
    let request = verax_api::CreateToken::new(&scopes, "");
    let token = admin.create_token(&request).await.unwrap();
    fixture.token.clone_from(&token.secret);
    let mut wire = fixture.opened().await;
    // A lock that would outlive the connection does not outlive the access.
    let lock = Request::AcquireLock {
        name: "gate",
        owner: "x",
        lease: 600_000,
        wait: 0,
        ends_with_connection: false,
    };
    wire.send(1, 2, lock).await;
    assert!(wire.next().await.unwrap().1.starts_with("Granted"));
    assert_eq!(fixture.service.engine().lock_counts().held, 1);
    admin.revoke_token(token.token.id).await.unwrap();
    wire.refused_as(FailureKind::NotSignedIn).await;
    assert!(wire.next().await.is_none(), "it is closed");
    until("the lock is free", || fixture.service.engine().lock_counts() == LockCounts::default())
        .await;
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn live_streams_of_a_token_are_bounded() {
    let fixture = Fixture::start(WireLimits::default(), ServiceOptions::default()).await;
    let http = reqwest::Client::new();
    let open = async |path: &str| {
        let request = http.get(format!("http://{}{path}", fixture.http));
        request.bearer_auth(&fixture.token).send().await.unwrap()
    };
    let mut streams = Vec::new();
    for n in 0..32 {
        let path = if n % 2 == 0 { "/v1/live" } else { "/v1/waiting/live" };
        let stream = open(path).await;
        assert_eq!(stream.status(), 200, "stream {n}");
        streams.push(stream);
    }
    assert_eq!(open("/v1/live").await.status(), 503);
    assert_eq!(open("/v1/tenants").await.status(), 200, "requests go on");
    // One that is closed makes place for another.
    streams.pop();
    let started = std::time::Instant::now();
    while open("/v1/live").await.status() != 200 {
        assert!(started.elapsed() < Duration::from_secs(60));
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    fixture.end().await;
}
