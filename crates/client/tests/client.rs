//! The client against servers that behave, misbehave, and are not there.

#![allow(clippy::unwrap_used, clippy::panic)]

use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::body::Bytes;
use axum::http::{HeaderMap, Method, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use futures_util::StreamExt;
use rstest::rstest;
use verax_client::{
    Client, ClientError, ClientOptions, Lookup, PutCondition, PutOptions, ReadOptions, Source,
};

/// What a server was asked.
#[derive(Debug, Clone)]
struct Asked {
    method: Method,
    path: String,
    headers: HeaderMap,
    body: Bytes,
}

type Seen = Arc<Mutex<Vec<Asked>>>;

/// A server that remembers what it was asked, and answers as it is told.
async fn server<A: IntoResponse + 'static>(
    answer: impl Fn() -> A + Clone + Send + Sync + 'static,
) -> (String, Seen) {
    let seen = Seen::default();
    let asked = Arc::clone(&seen);
    let handler = move |method: Method, uri: Uri, headers: HeaderMap, body: Bytes| {
        let path = uri.path_and_query().unwrap().to_string();
        asked.lock().unwrap().push(Asked { method, path, headers, body });
        let response: Response = answer().into_response();
        async move { response }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let router = Router::new().fallback(handler);
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    (format!("http://{address}"), seen)
}

fn client(url: &str) -> Client {
    let (url, token) = (url.to_owned(), Some("secret".into()));
    Client::new(ClientOptions { url, token, ..Default::default() }).unwrap()
}

fn hit() -> impl IntoResponse {
    let headers = [
        ("content-type", "application/json"),
        ("cache-status", "verax; hit; ttl=27"),
        ("etag", "\"aa\""),
        ("age", "3"),
        ("server-timing", "service;dur=0.04"),
    ];
    (headers, "[1]")
}

#[tokio::test]
async fn get_sends_the_token_and_reads_every_field() {
    let (url, seen) = server(hit).await;
    let boards = client(&url).namespace("ferrydesk", "boards").unwrap();
    let found = boards.get("a/b ä").await.unwrap().unwrap();
    assert_eq!((found.source, &found.value[..], found.stored), (Source::Hit, &b"[1]"[..], true));
    assert_eq!(
        (found.media_type.as_str(), found.entity_tag.as_deref()),
        ("application/json", Some("\"aa\""))
    );
    assert_eq!((found.age, found.seconds_left), (Duration::from_secs(3), Some(27)));
    assert_eq!((found.service_ms, found.origin_ms), (Some(0.04), None));
    let asked = seen.lock().unwrap()[0].clone();
    assert_eq!(asked.path, "/v1/tenants/ferrydesk/namespaces/boards/entries/a%2Fb%20%C3%A4");
    assert_eq!(asked.headers["authorization"], "Bearer secret");
}

#[rstest]
#[case(ReadOptions { refresh: true, ..Default::default() }, Some("no-cache"))]
#[case(ReadOptions { only_if_cached: true, ..Default::default() }, Some("only-if-cached"))]
#[case(ReadOptions::default(), None)]
#[tokio::test]
async fn read_options_become_directives(
    #[case] options: ReadOptions,
    #[case] directive: Option<&str>,
) {
    let (url, seen) = server(hit).await;
    let boards = client(&url).namespace("ferrydesk", "boards").unwrap();
    boards.look_up("k", options).await.unwrap();
    let sent = seen.lock().unwrap()[0].headers.get("cache-control").cloned();
    assert_eq!(sent.as_ref().map(|v| v.to_str().unwrap()), directive);
}

#[tokio::test]
async fn put_options_become_fields() {
    let (url, seen) = server(|| StatusCode::NO_CONTENT).await;
    let boards = client(&url).namespace("ferrydesk", "boards").unwrap();
    let options = PutOptions {
        media_type: Some("text/plain".into()),
        max_age: Some(Duration::from_secs(30)),
        stale_if_error: Some(Duration::from_secs(60)),
        tags: vec!["boards".into(), "say \"ahoy\"".into()],
        condition: PutCondition::IfMatches("\"aa\"".into()),
        ..Default::default()
    };
    assert!(boards.put("k", "value", options).await.unwrap());
    let asked = seen.lock().unwrap()[0].clone();
    let field = |name: &str| asked.headers[name].to_str().unwrap().to_owned();
    assert_eq!((asked.method.clone(), &asked.body[..]), (Method::PUT, &b"value"[..]));
    assert_eq!(field("cache-control"), "max-age=30, stale-if-error=60");
    assert_eq!(field("cache-groups"), r#""boards", "say \"ahoy\"""#);
    assert_eq!([field("if-match"), field("content-type")], ["\"aa\"", "text/plain"]);
}

fn problem(status: u16, name: &str) -> Response {
    let text = format!(
        r#"{{"type":"urn:verax:problem:{name}","title":"T","status":{status},"detail":"because","limit_bytes":7}}"#
    );
    (StatusCode::from_u16(status).unwrap(), text).into_response()
}

#[tokio::test]
async fn hit_miss_and_failure_are_distinct_results() {
    let look_up = async |status: u16, name: &'static str| {
        let (url, _) = server(move || problem(status, name)).await;
        client(&url).namespace("a", "b").unwrap().look_up("k", ReadOptions::default()).await
    };
    assert!(matches!(look_up(404, "miss").await, Ok(Lookup::Miss)));
    assert!(matches!(look_up(404, "no-value").await, Ok(Lookup::NoValue)));
    let unknown = look_up(404, "not-found").await.unwrap_err();
    assert_eq!((unknown.status(), unknown.problem()), (Some(404), Some("not-found")));
    let failed = look_up(502, "origin-failed").await.unwrap_err();
    assert_eq!(failed.to_string(), "because");
    let ClientError::Refused(problem) = failed else { panic!("{failed:?}") };
    assert_eq!(problem.more["limit_bytes"], 7);
}

#[tokio::test]
async fn responses_of_another_server_are_reported_as_such() {
    let (page, _) = server(|| "<html>a router's sign-in page</html>").await;
    let (refusing, _) = server(|| (StatusCode::FORBIDDEN, "<html>no</html>")).await;
    for url in [page, refusing] {
        let error = client(&url).namespace("a", "b").unwrap().get("k").await.unwrap_err();
        assert!(matches!(&error, ClientError::NotVerax { .. }), "{error:?}");
        assert!(error.to_string().contains(&url), "{error}");
    }
}

#[tokio::test]
async fn refused_connections_and_timeouts_are_distinct_errors() {
    let error = client("http://127.0.0.1:1").tenants().await.unwrap_err();
    assert!(matches!(error, ClientError::Unreachable { .. }), "{error:?}");
    // Takes the connection and says nothing.
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let timeout = Duration::from_millis(100);
    let silent = Client::new(ClientOptions { url, timeout, ..Default::default() }).unwrap();
    let error = silent.tenants().await.unwrap_err();
    assert!(matches!(error, ClientError::TimedOut { milliseconds: 100, .. }), "{error:?}");
}

#[rstest]
#[case("verax.test:80")]
#[case("ftp://verax.test")]
#[case("")]
fn addresses_are_checked_at_once(#[case] url: &str) {
    let error = Client::new(ClientOptions { url: url.into(), ..Default::default() }).unwrap_err();
    assert!(matches!(&error, ClientError::Invalid(text) if text.contains("http://127.0.0.1:8750")));
}

#[rstest]
#[case("Ferry", "boards")]
#[case("", "boards")]
#[case("ferrydesk", "../tokens")]
fn names_cannot_lead_elsewhere(#[case] tenant: &str, #[case] name: &str) {
    assert!(client("http://127.0.0.1:1").namespace(tenant, name).is_err());
}

#[rstest]
#[case("")]
#[case(".")]
#[case("..")]
#[tokio::test]
async fn keys_that_no_url_can_carry_are_refused_by_the_client(#[case] key: &str) {
    let boards = client("http://127.0.0.1:1").namespace("a", "b").unwrap();
    assert!(matches!(boards.get(key).await, Err(ClientError::Invalid(_))));
}

#[tokio::test]
async fn streams_deliver_events_in_order_and_skip_unknown_ones() {
    let run = |stored: u64, state: &str| {
        format!(
            r#"{{"id":1,"tenant":"a","namespace":"b","state":"{state}","started_at":"2031-05-02T06:00:00Z","elapsed_ms":1.0,"keys":2,"stored":{stored},"failed":0,"per_second":1.0,"failures":[]}}"#
        )
    };
    let text = format!(
        "event: progress\ndata: {}\n\n: alive\n\nevent: news\ndata: {{}}\n\nevent: end\ndata: {}\n\n",
        run(1, "running"),
        run(2, "done")
    );
    let (url, seen) = server(move || ([("content-type", "text/event-stream")], text.clone())).await;
    let events: Vec<_> =
        client(&url).watch_run::<verax_api::WarmRun>(1).await.unwrap().collect().await;
    let stored: Vec<u64> = events.iter().map(|e| e.as_ref().unwrap().stored).collect();
    assert_eq!(stored, [1, 2]);
    assert_eq!(seen.lock().unwrap()[0].path, "/v1/warm-runs/1/live");
}

#[tokio::test]
async fn an_unreadable_stream_is_an_error() {
    let (url, _) =
        server(|| ([("content-type", "text/event-stream")], "event: end\ndata: {\n\n")).await;
    let events: Vec<_> =
        client(&url).watch_run::<verax_api::LoadRun>(1).await.unwrap().collect().await;
    assert!(matches!(&events[..], [Err(ClientError::NotVerax { .. })]), "{events:?}");
}

#[tokio::test]
async fn connections_are_reused() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let connections = Arc::new(Mutex::new(std::collections::HashSet::new()));
    let known = Arc::clone(&connections);
    let handler = move |axum::extract::ConnectInfo(peer): axum::extract::ConnectInfo<
        std::net::SocketAddr,
    >| {
        known.lock().unwrap().insert(peer);
        async { hit() }
    };
    let service = Router::new()
        .fallback(handler)
        .into_make_service_with_connect_info::<std::net::SocketAddr>();
    tokio::spawn(async move { axum::serve(listener, service).await.unwrap() });
    let boards = client(&url).namespace("a", "b").unwrap();
    for _ in 0..20 {
        boards.get("k").await.unwrap();
    }
    assert_eq!(connections.lock().unwrap().len(), 1);
}
