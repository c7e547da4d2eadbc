//! What keeps out those who may not come in, and puts out without delay those who may no longer
//! stay.

use std::time::{Duration, Instant};

use crate::fixture::Fixture;
use futures_util::StreamExt;
use reqwest::{Method, StatusCode};
use rstest::rstest;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use verax_server::{ConnectionLimits, HttpOptions};

const PATH: &str = "/v1/tenants/ferrydesk/namespaces";

/// What somebody hears who is put out, at the latest after this; far more than the second that is
/// promised, since the machine may be busy.
const PATIENCE: Duration = Duration::from_secs(20);

async fn with_namespace(options: HttpOptions) -> Fixture {
    let fixture = Fixture::start_with(options).await;
    fixture.create("/v1/tenants", json!({ "name": "ferrydesk" })).await;
    fixture.create(PATH, json!({ "name": "boards" })).await;
    fixture
}

/// A connection without a client library, which says exactly what it is told.
async fn connect(fixture: &Fixture) -> TcpStream {
    TcpStream::connect(fixture.url.trim_start_matches("http://")).await.unwrap()
}

/// All that comes until the other end closes.
async fn rest_of(mut stream: TcpStream) -> String {
    let mut text = Vec::new();
    // A connection that is reset is closed too.
    let reading = tokio::time::timeout(PATIENCE, stream.read_to_end(&mut text));
    let _ = reading.await.expect("the connection is closed");
    String::from_utf8_lossy(&text).into_owned()
}

async fn session(fixture: &Fixture, token: &str) -> String {
    let sign_in = fixture.request(Method::POST, "/v1/session").json(&json!({ "token": token }));
    let response = sign_in.send().await.unwrap();
    assert_eq!(response.status(), StatusCode::CREATED);
    let cookie = response.headers()["set-cookie"].to_str().unwrap().to_owned();
    cookie.split(';').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stored_html_value_cannot_act_as_a_console_page() {
    let fixture = with_namespace(HttpOptions::default()).await;
    let entry = format!("{PATH}/boards/entries/page");
    let script = "<script>fetch('/v1/tokens', { method: 'POST' })</script>";
    let put = fixture.request(Method::PUT, &entry).bearer_auth(&fixture.token);
    let put = put.header("content-type", "text/html").body(script);
    assert_eq!(put.send().await.unwrap().status(), StatusCode::CREATED);
    for long in [false, true] {
        let mut get = fixture.request(Method::GET, &entry).bearer_auth(&fixture.token);
        if long {
            get = get.header("cache-control", "only-if-cached");
        }
        let response = get.send().await.unwrap();
        assert_eq!(response.headers()["x-content-type-options"], "nosniff");
        let policy = response.headers()["content-security-policy"].to_str().unwrap();
        assert!(
            policy.starts_with("sandbox;") && policy.contains("default-src 'none'"),
            "{policy}"
        );
        assert!(!response.headers().contains_key("content-disposition"));
    }
    // A browser that goes to it with the session of the console gets nothing; the console itself
    // does, as something to keep and not to show.
    let cookie = session(&fixture, &fixture.token).await;
    let as_browser = |mode: &str, destination: &str| {
        let get = fixture.request(Method::GET, &entry).header("cookie", &cookie);
        get.header("sec-fetch-site", "same-origin")
            .header("sec-fetch-mode", mode)
            .header("sec-fetch-dest", destination)
            .send()
    };
    for destination in ["document", "iframe", "image", "script"] {
        let response = as_browser("navigate", destination).await.unwrap();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED, "{destination}");
    }
    let response = as_browser("cors", "empty").await.unwrap();
    assert_eq!(response.status(), StatusCode::OK);
    assert_eq!(response.headers()["content-disposition"], "attachment");
    assert_eq!(response.headers()["cache-control"], "private, no-store");
    let list = fixture.request(Method::GET, "/v1/tenants").header("cookie", &cookie);
    let list = list.header("verax-console", "1").send().await.unwrap();
    assert_eq!(list.headers()["cache-control"], "private, no-store");
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn unauthenticated_peers_are_read_only_briefly() {
    let fixture = Fixture::start().await;
    let padded = |size: usize| {
        let body = json!({ "token": "x" }).to_string();
        format!("{body}{}", " ".repeat(size - body.len()))
    };
    let send = async |body: String| {
        let request = fixture.request(Method::POST, "/v1/session").body(body);
        request.header("content-type", "application/json").send().await.unwrap().status()
    };
    assert_eq!(send(padded(4 << 10)).await, StatusCode::UNAUTHORIZED);
    assert_eq!(send(padded((4 << 10) + 1)).await, StatusCode::PAYLOAD_TOO_LARGE);
    // Whoever is not known is told so before anything of the body is read.
    let mut stream = connect(&fixture).await;
    let head = "POST /v1/tenants HTTP/1.1\r\nhost: localhost\r\ncontent-type: application/json\r\ncontent-length: 8000000\r\nconnection: close\r\n\r\n{";
    stream.write_all(head.as_bytes()).await.unwrap();
    let answer = rest_of(stream).await;
    assert!(answer.starts_with("HTTP/1.1 401"), "{answer}");
    // A header is no place for as much either.
    let mut stream = connect(&fixture).await;
    let long = format!("GET / HTTP/1.1\r\nhost: localhost\r\nx: {}", "y".repeat(100 << 10));
    let _ = stream.write_all(long.as_bytes()).await;
    let answer = rest_of(stream).await;
    assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 431"), "{answer}");
    fixture.end().await;
}

#[rstest]
#[case::says_nothing("")]
#[case::half_a_header("GET /healthz HTTP/1.1\r\nhost: loc")]
#[case::idle_after_an_answer("GET /healthz HTTP/1.1\r\nhost: localhost\r\n\r\n")]
#[tokio::test(flavor = "multi_thread")]
async fn silent_connections_are_closed(#[case] said: &str) {
    let header_timeout = Duration::from_millis(300);
    let fixture = Fixture::start_with(HttpOptions { header_timeout, ..Default::default() }).await;
    let mut stream = connect(&fixture).await;
    stream.write_all(said.as_bytes()).await.unwrap();
    let began = Instant::now();
    rest_of(stream).await;
    assert!(began.elapsed() >= header_timeout / 2);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn silent_connections_do_not_block_others() {
    let limits = ConnectionLimits { connections: 20, per_address: 20 };
    let fixture = with_namespace(HttpOptions { limits, ..Default::default() }).await;
    let tenants = async |http: &reqwest::Client| {
        let get = http.get(format!("{}/v1/tenants", fixture.url)).bearer_auth(&fixture.token);
        get.send().await.map(|response| response.status())
    };
    let silent: Vec<TcpStream> =
        futures_util::future::join_all((0..19).map(|_| connect(&fixture))).await;
    // Somebody with a token comes in although all places are taken, and stays.
    let http = reqwest::Client::new();
    assert_eq!(tenants(&http).await.unwrap(), StatusCode::OK);
    let more: Vec<TcpStream> =
        futures_util::future::join_all((0..10).map(|_| connect(&fixture))).await;
    assert_eq!(tenants(&http).await.unwrap(), StatusCode::OK);
    drop((silent, more));
    fixture.end().await;

    // One address has its share and no more.
    let limits = ConnectionLimits { connections: 20, per_address: 3 };
    let fixture = Fixture::start_with(HttpOptions { limits, ..Default::default() }).await;
    // The fixture's own client may hold one.
    let held: Vec<TcpStream> =
        futures_util::future::join_all((0..3).map(|_| connect(&fixture))).await;
    let refused = connect(&fixture).await;
    assert_eq!(rest_of(refused).await, "");
    drop(held);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foreign_host_is_refused() {
    let fixture = Fixture::start().await;
    let ask = async |host: &str| {
        let mut stream = connect(&fixture).await;
        let request = format!("GET /healthz HTTP/1.1\r\n{host}connection: close\r\n\r\n");
        stream.write_all(request.as_bytes()).await.unwrap();
        rest_of(stream).await.split(' ').nth(1).unwrap_or_default().to_owned()
    };
    for (host, status) in [
        ("host: localhost:1\r\n", "200"),
        ("host: evil.example\r\n", "421"),
        ("", "400"),
        ("host: localhost\r\nhost: localhost\r\n", "400"),
    ] {
        assert_eq!(ask(host).await, status, "{host:?}");
    }
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn revocation_ends_requests_in_progress() {
    let fixture = with_namespace(HttpOptions::default()).await;
    let scopes = json!({ "scopes": ["read:ferrydesk", "write:ferrydesk"] });
    let token = fixture.create("/v1/tokens", scopes).await;
    let (secret, id) =
        (token["secret"].as_str().unwrap().to_owned(), token["id"].as_u64().unwrap());
    let cookie = session(&fixture, &secret).await;
    let lock = |token: &str, name: &str| {
        let path = format!("{PATH}/boards/locks/{name}");
        fixture
            .request(Method::POST, &path)
            .bearer_auth(token)
            .json(&json!({ "lease_seconds": 600.0 }))
    };
    let held = lock(&secret, "gate").send().await.unwrap();
    assert_eq!(held.status(), StatusCode::CREATED);
    lock(&fixture.token, "berth").send().await.unwrap().error_for_status().unwrap();

    // In progress: streams by token and by session, a wait for a lock, and the body of a value.
    let mut streams = Vec::new();
    for live in ["/v1/live", "/v1/waiting/live"] {
        let get = || fixture.request(Method::GET, live);
        for get in [get().header("cookie", &cookie), get().bearer_auth(&secret)] {
            let response = get.send().await.unwrap();
            assert_eq!(response.status(), StatusCode::OK);
            let mut stream = response.bytes_stream();
            stream.next().await.unwrap().unwrap();
            streams.push(stream);
        }
    }
    let waits = lock(&secret, "berth").header("prefer", "wait=300").send();
    let waits = tokio::spawn(waits);
    let next = lock(&fixture.token, "gate").header("prefer", "wait=300").send();
    let next = tokio::spawn(next);
    let mut upload = connect(&fixture).await;
    let head = format!(
        "PUT {PATH}/boards/entries/late HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {secret}\r\ncontent-length: 8\r\n\r\nhalf"
    );
    upload.write_all(head.as_bytes()).await.unwrap();
    let queued = async || {
        let path = format!("{PATH}/boards/locks");
        let list = fixture.request(Method::GET, &path).bearer_auth(&fixture.token);
        let locks: Value = list.send().await.unwrap().json().await.unwrap();
        let held = locks["items"].as_array().cloned().unwrap_or_default();
        held.iter().map(|lock| lock["queue"].as_array().map_or(0, Vec::len)).sum::<usize>()
    };
    let began = Instant::now();
    while queued().await < 2 {
        assert!(began.elapsed() < PATIENCE, "nobody is queued");
    }

    let revoke = fixture.request(Method::DELETE, &format!("/v1/tokens/{id}"));
    let revoked = revoke.bearer_auth(&fixture.token).send().await.unwrap();
    assert_eq!(revoked.status(), StatusCode::NO_CONTENT);
    for mut stream in streams {
        let ends = async { while stream.next().await.is_some_and(|chunk| chunk.is_ok()) {} };
        tokio::time::timeout(PATIENCE, ends).await.expect("a stream ends");
    }
    let waited = tokio::time::timeout(PATIENCE, waits).await.expect("a wait ends");
    assert_eq!(waited.unwrap().unwrap().status(), StatusCode::UNAUTHORIZED);
    let next = tokio::time::timeout(PATIENCE, next).await.expect("the lock is passed on");
    assert_eq!(next.unwrap().unwrap().status(), StatusCode::CREATED);
    let _ = upload.write_all(b"whole").await;
    let answer = rest_of(upload).await;
    assert!(answer.starts_with("HTTP/1.1 401"), "{answer}");
    let late = fixture.request(Method::GET, &format!("{PATH}/boards/entries/late"));
    let late = late.bearer_auth(&fixture.token).send().await.unwrap();
    assert_eq!(late.status(), StatusCode::NOT_FOUND, "nothing was written after the revocation");
    fixture.end().await;
}
