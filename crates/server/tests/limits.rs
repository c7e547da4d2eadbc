//! The bounds on what clients may take: connections, requests in flight, silence, and memory for
//! values on their way.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use axum::Router;
use axum::routing::get;
use serde_json::json;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use verax_client::{Client, ClientOptions};
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_server::{ConnectionLimits, WireLimits};
use verax_service::{Service, ServiceOptions};
use verax_wire::{
    FailureCode, Frame, GetFlags, Hello, Put, PutCondition, Reply, Request, Tags, VERSION,
    next_frame,
};

struct Fixture {
    service: Arc<Service>,
    http: SocketAddr,
    wire: SocketAddr,
    token: String,
    mariadb: PrivateServer,
    _directory: tempfile::TempDir,
}

impl Fixture {
    async fn start(limits: WireLimits, options: ServiceOptions) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().unwrap();
        let mariadb = PrivateServer::start(directory.path()).await.unwrap();
        let records = Records::open(mariadb.url("verax")).await.unwrap();
        let service = Service::start(records, options).await.unwrap();
        let token = service.administrator_token(None).await.unwrap();
        let [http, wire] = [(); 2].map(async |()| TcpListener::bind("127.0.0.1:0").await.unwrap());
        let (http_listener, wire_listener) = (http.await, wire.await);
        let addresses = [&http_listener, &wire_listener].map(|l| l.local_addr().unwrap());
        let [http, wire] = addresses;
        let stop = std::future::pending();
        tokio::spawn(verax_server::serve(
            http_listener,
            Arc::clone(&service),
            None,
            Default::default(),
            stop,
        ));
        tokio::spawn(verax_server::serve_wire(wire_listener, Arc::clone(&service), None, limits));
        let fixture = Self { service, http, wire, token, mariadb, _directory: directory };
        fixture.client().create_tenant("ferrydesk").await.unwrap();
        fixture
    }

    fn client(&self) -> Client {
        let (url, token) = (format!("http://{}", self.http), Some(self.token.clone()));
        Client::new(ClientOptions { url, token, ..Default::default() }).unwrap()
    }

    async fn namespace(&self, policy: serde_json::Value) {
        let request = serde_json::from_value(policy).unwrap();
        self.client().create_namespace("ferrydesk", &request).await.unwrap();
    }

    /// A connection that has said hello and, unless it was refused, opened `boards` as number 1.
    async fn connect(&self) -> Wire {
        let stream = TcpStream::connect(self.wire).await.unwrap();
        let mut wire = Wire { stream, received: Vec::new() };
        let hello = Hello { lowest: VERSION, highest: VERSION, token: &self.token, client: "test" };
        wire.send(0, 0, Request::Hello(hello)).await;
        wire.send(0, 1, Request::Open { tenant: "ferrydesk", namespace: "boards" }).await;
        wire
    }

    async fn opened(&self) -> Wire {
        let mut wire = self.connect().await;
        for expected in ["Welcome", "Opened"] {
            let (_, said) = wire.next().await.unwrap();
            assert!(said.starts_with(expected), "{said}");
        }
        wire
    }

    async fn end(self) {
        self.service.stop();
        self.mariadb.stop().await.unwrap();
    }
}

struct Wire {
    stream: TcpStream,
    received: Vec<u8>,
}

impl Wire {
    async fn send(&mut self, namespace: u16, id: u32, request: Request<'_>) {
        let mut bytes = Vec::new();
        request.encode(Frame { namespace, id }, &mut bytes);
        // The other end may have hung up already, which reading tells.
        let _ = self.stream.write_all(&bytes).await;
    }

    /// The next reply, in words; `None` when the connection was closed.
    async fn next(&mut self) -> Option<(u32, String)> {
        loop {
            if let Some((raw, taken)) = next_frame(&self.received, 1 << 24).unwrap() {
                let reply = Reply::decode(raw.head, raw.body).unwrap();
                let said = (raw.head.id, format!("{reply:?}").chars().take(300).collect());
                self.received.drain(..taken);
                return Some(said);
            }
            let mut more = [0; 4_096];
            let read = tokio::time::timeout(Duration::from_secs(60), self.stream.read(&mut more));
            match read.await.expect("something comes") {
                Ok(0) | Err(_) => return None,
                Ok(read) => self.received.extend_from_slice(&more[..read]),
            }
        }
    }

    async fn refused_as(&mut self, code: FailureCode) {
        let (_, said) = self.next().await.unwrap();
        assert!(said.contains(&format!("code: {}", code as u16)), "{said}");
    }
}

fn get_of(key: &str) -> Request<'_> {
    Request::Get { key, flags: GetFlags::default() }
}

fn put_frame(size: usize) -> Vec<u8> {
    let (value, mut bytes) = (vec![7; size], Vec::new());
    let put = Put {
        key: "large",
        value: &value,
        media_type: "application/octet-stream",
        lifetime: None,
        tags: Tags::of(&[]),
        condition: PutCondition::Always,
    };
    Request::Put(put).encode(Frame { namespace: 1, id: 9 }, &mut bytes);
    bytes
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    for _ in 0..6_000 {
        if holds() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("after a minute, still not: {what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_connection_too_many_is_told_and_takes_nobody_elses_place() {
    let limits = WireLimits {
        connections: ConnectionLimits { connections: 2, per_address: 2 },
        ..WireLimits::default()
    };
    let fixture = Fixture::start(limits, ServiceOptions::default()).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut first = fixture.opened().await;
    let second = fixture.opened().await;
    let mut third = fixture.connect().await;
    third.refused_as(FailureCode::Busy).await;
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
async fn no_more_requests_wait_than_allowed_and_all_are_answered() {
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
async fn the_silent_are_cut_off_and_the_others_are_not() {
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
async fn large_values_on_their_way_in_share_a_bound() {
    let options = ServiceOptions { transit_limit: 1 << 20, ..ServiceOptions::default() };
    let fixture = Fixture::start(WireLimits::default(), options).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut first = fixture.opened().await;
    let frame = put_frame(700 << 10);
    let (most, rest) = frame.split_at(100 << 10);
    first.stream.write_all(most).await.unwrap();
    until("its place is taken", || fixture.service.transit().taken() >= 700 << 10).await;
    // While it is arriving there is no room for another one, by whatever way.
    let mut second = fixture.opened().await;
    let _ = second.stream.write_all(&frame).await;
    second.refused_as(FailureCode::Busy).await;
    let url = format!("http://{}/v1/tenants/ferrydesk/namespaces/boards/entries/k", fixture.http);
    let http = reqwest::Client::new();
    let put = async |body: Vec<u8>| {
        let request = http.put(&url).bearer_auth(&fixture.token).body(body);
        request.send().await.unwrap()
    };
    let refused = put(vec![7; 700 << 10]).await;
    assert_eq!(
        (refused.status().as_u16(), &refused.headers()["retry-after"]),
        (503, &"1".parse().unwrap())
    );
    assert_eq!(put(vec![7; 60 << 10]).await.status(), 201, "small ones go on");
    // One that sends no length takes its place as it grows.
    let pieces = (0..10).map(|_| Ok::<_, std::io::Error>(vec![7u8; 64 << 10]));
    let body = reqwest::Body::wrap_stream(futures_util::stream::iter(pieces));
    let growing = http.put(&url).bearer_auth(&fixture.token).body(body).send().await;
    assert!(growing.is_err() || growing.is_ok_and(|r| r.status() == 503));
    first.stream.write_all(rest).await.unwrap();
    assert!(first.next().await.unwrap().1.starts_with("Done"));
    until("the place is given back", || fixture.service.transit().taken() == 0).await;
    assert_eq!(put(vec![7; 700 << 10]).await.status(), 204);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_takes_no_answers_is_given_up_and_holds_nothing_back() {
    let limits = WireLimits { idle: Duration::from_millis(500), ..WireLimits::default() };
    let options = ServiceOptions { transit_limit: 4 << 20, ..ServiceOptions::default() };
    let fixture = Fixture::start(limits, options).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let mut wire = fixture.opened().await;
    wire.stream.write_all(&put_frame(900 << 10)).await.unwrap();
    assert!(wire.next().await.unwrap().1.starts_with("Done"));
    // More than the network's own buffers take, and none of it is read.
    for id in 0..40 {
        wire.send(1, id, get_of("large")).await;
    }
    until("values wait to be taken", || fixture.service.transit().taken() > 0).await;
    until("it is given up", || fixture.service.transit().taken() == 0).await;
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_idle_connection_ends_with_its_token() {
    let mut fixture = Fixture::start(WireLimits::default(), ServiceOptions::default()).await;
    fixture.namespace(serde_json::json!({ "name": "boards" })).await;
    let admin = fixture.client();
    let scopes = vec!["read:ferrydesk".to_owned(), "write:ferrydesk".to_owned()];
    let request = verax_api::CreateToken { scopes, note: String::new() };
    let token = admin.create_token(&request).await.unwrap();
    fixture.token.clone_from(&token.secret);
    let mut wire = fixture.opened().await;
    // A lock that would outlive the connection does not outlive the access.
    let lock = Request::Lock {
        name: "gate",
        owner: "x",
        hold: 600_000,
        wait: 0,
        ends_with_connection: false,
    };
    wire.send(1, 2, lock).await;
    assert!(wire.next().await.unwrap().1.starts_with("Granted"));
    assert_eq!(fixture.service.lock_counts(), (1, 0));
    admin.revoke_token(token.token.id).await.unwrap();
    wire.refused_as(FailureCode::NotSignedIn).await;
    assert!(wire.next().await.is_none(), "it is closed");
    until("the lock is free", || fixture.service.lock_counts() == (0, 0)).await;
    fixture.end().await;
}
