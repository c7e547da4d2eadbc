//! Reading real HTTP servers that behave and misbehave.

use std::time::Duration;

use axum::Router;
use axum::routing::get;
use rstest::rstest;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use verax_core::OriginSettings;
use verax_core::guard::breaker::BreakerState;
use verax_origin::{InvalidListing, Origin, OriginError, standin};

async fn serve(router: Router) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    format!("http://{address}")
}

/// A server that answers every connection with these bytes and hangs up.
async fn raw(answer: &'static [u8]) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.read(&mut [0; 1024]).await;
            let _ = stream.write_all(answer).await;
        }
    });
    format!("http://{address}")
}

fn origin(url: String, change: impl FnOnce(&mut OriginSettings)) -> Origin {
    let mut settings = OriginSettings::http(url);
    change(&mut settings);
    Origin::new(&settings, &Default::default()).unwrap()
}

fn ferry_router() -> Router {
    let headers = [("content-type", "application/json"), ("cache-groups", "\"boards\"")];
    Router::new()
        .route("/boards/{harbor}", get(async move || (headers, "[1]")))
        .route("/harbors", get(async || r#"["aldermouth","port ulla"]"#))
        .route("/odd", get(async || r#"{"a":1}"#))
        .route("/moved", get(async || axum::response::Redirect::temporary("/harbors")))
        .route("/big", get(async || "x".repeat(5_000)))
        .route("/private", get(async || ([("cache-control", "no-store")], "secret")))
        .route("/none", get(async || axum::http::StatusCode::NOT_FOUND))
        .route("/slow", get(async || tokio::time::sleep(Duration::from_secs(30)).await))
}

#[tokio::test]
async fn a_read_returns_media_type_and_cache_groups() {
    let base = serve(ferry_router()).await;
    let boards = origin(format!("{base}/boards/{{harbor}}"), |_| {});
    let value = boards.read(&[("harbor", "aldermouth")], None).await.unwrap();
    assert_eq!((&value.value[..], value.media_type.as_str()), (&b"[1]"[..], "application/json"));
    assert_eq!((value.cache_groups.as_deref(), value.no_store), (Some("\"boards\""), false));
    assert!(origin(format!("{base}/private"), |_| {}).read(&[], None).await.unwrap().no_store);
}

#[rstest]
#[case("/none", "no-value", "404")]
#[case("/moved", "status", "307")]
#[case("/big", "too-large", "more than 1000 bytes")]
#[case("/slow", "timeout", "within 200 ms")]
#[tokio::test]
async fn read_failures_name_their_cause(
    #[case] path: &str,
    #[case] kind: &str,
    #[case] says: &str,
) {
    let base = serve(ferry_router()).await;
    let failing = origin(format!("{base}{path}"), |settings| {
        settings.max_response_bytes = 1_000;
        settings.total_timeout = Duration::from_millis(200);
    });
    let error = failing.read(&[], None).await.unwrap_err();
    assert_eq!(error.kind(), kind, "{error}");
    assert!(error.to_string().contains(says) && error.to_string().contains(&base), "{error}");
}

#[rstest]
#[case(b"this is not HTTP\r\n\r\n")]
#[case(b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nonly this")]
#[case(b"")]
#[tokio::test]
async fn malformed_responses_are_not_values(#[case] answer: &'static [u8]) {
    let error = origin(raw(answer).await, |_| {}).read(&[], None).await.unwrap_err();
    assert_eq!(error.kind(), "garbled", "{error}");
}

#[tokio::test]
async fn an_endless_response_is_cut_off() {
    let endless = Router::new().route(
        "/",
        get(async || {
            let chunks =
                futures_util::stream::repeat_with(|| Ok::<_, std::io::Error>("x".repeat(1_000)));
            axum::body::Body::from_stream(chunks)
        }),
    );
    let base = serve(endless).await;
    let error = origin(base, |s| s.max_response_bytes = 10_000).read(&[], None).await.unwrap_err();
    assert!(matches!(error, OriginError::TooLarge { limit: 10_000, .. }), "{error}");
}

#[tokio::test]
async fn an_absent_origin_is_a_connection_failure() {
    let error = origin("http://127.0.0.1:1/x".into(), |_| {}).read(&[], None).await.unwrap_err();
    assert_eq!(error.kind(), "connect", "{error}");
}

#[tokio::test]
async fn listings_do_not_leave_the_origins_server() {
    let base = serve(ferry_router()).await;
    let listings =
        ["/harbors", "/odd", "http://127.0.0.1:1/harbors", "//example.test/x", "file:///etc/hosts"];
    let boards = origin(format!("{base}/boards/{{harbor}}"), |settings| {
        settings.listings = listings.map(str::to_owned).to_vec();
    });
    assert_eq!(boards.read_listing("/harbors", 10).await.unwrap(), ["aldermouth", "port ulla"]);
    let shape = boards.read_listing("/odd", 10).await.unwrap_err();
    assert!(matches!(shape, InvalidListing::Shape { .. }), "{shape}");
    for elsewhere in ["http://127.0.0.1:1/harbors", "//example.test/x", "file:///etc/hosts"] {
        let error = boards.read_listing(elsewhere, 10).await.unwrap_err();
        assert!(matches!(error, InvalidListing::Origin(OriginError::KeyMismatch(_))), "{error}");
    }
    // What the settings do not name is not read, whatever it is.
    let refused = boards.read_listing("/boards/aldermouth", 10).await.unwrap_err();
    assert!(refused.to_string().contains("/harbors"), "{refused}");
    assert!(matches!(refused, InvalidListing::NotAllowed { .. }));
}

#[tokio::test]
async fn a_stand_in_fails_as_configured() {
    let (router, standin) = standin::around(ferry_router());
    let base = serve(router).await;
    let boards = origin(format!("{base}/boards/{{harbor}}"), |_| {});
    let read = async || boards.read(&[("harbor", "x")], None).await.map_err(|e| e.status());
    assert!(read().await.is_ok());
    let set = async |json: &'static str| {
        let client = reqwest::Client::new();
        let request =
            client.put(format!("{base}/standin")).header("content-type", "application/json");
        request.body(json).send().await.unwrap().status().as_u16()
    };
    assert_eq!(set(r#"{"outage":true}"#).await, 200);
    assert_eq!(read().await.unwrap_err(), Some(503));
    assert_eq!(set(r#"{"outage":false,"error_rate":1}"#).await, 200);
    assert_eq!(read().await.unwrap_err(), Some(500));
    assert_eq!(set(r#"{"error_rate":0,"concurrency_limit":0}"#).await, 200);
    assert_eq!(read().await.unwrap_err(), Some(503));
    for bad in [r#"{"error_rate":2}"#, r#"{"speed":1}"#, r#"{"extra_latency_ms":99999999}"#, "[]"] {
        assert_eq!(set(bad).await, 422, "{bad}");
    }
    assert_eq!(standin.settings().concurrency_limit, Some(0), "bad settings change nothing");
    assert_eq!((standin.counts().calls, standin.counts().at_once), (4, 0));
}

#[tokio::test]
async fn consecutive_failures_open_the_circuit_and_a_trial_closes_it() {
    let (router, standin) = standin::around(ferry_router());
    let base = serve(router).await;
    let origin = origin(format!("{base}/boards/{{harbor}}"), |s| s.guard.retry_budget_percent = 0);
    let read = async || origin.read_guarded(&[("harbor", "aldermouth")], None, None).await;
    standin.change(&serde_json::json!({ "outage": true })).unwrap();
    for _ in 0..5 {
        assert!(matches!(read().await, Err(OriginError::Status { status: 503, .. })));
    }
    let calls = standin.counts().calls;
    let set_aside = read().await.unwrap_err();
    let OriginError::CircuitOpen { retry_after } = set_aside else { panic!("{set_aside}") };
    assert!(retry_after <= Duration::from_millis(500) && set_aside.kind() == "circuit-open");
    assert_eq!(standin.counts().calls, calls, "it was not asked");
    assert!(matches!(origin.state().breaker, BreakerState::Open(_)));
    standin.change(&serde_json::json!({ "outage": false })).unwrap();
    let started = std::time::Instant::now();
    while read().await.is_err() {
        assert!(started.elapsed() < Duration::from_secs(30), "it is never tried again");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert_eq!(standin.counts().calls, calls + 1, "one call saw that it is well");
    assert_eq!(origin.state().breaker, BreakerState::Closed);
}
