//! Load runs against small servers that play Verax and its origin.

#![allow(clippy::unwrap_used)]

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tokio::sync::watch;
use verax_api::{LoadProgress, LoadReport};
use verax_client::{Client, ClientOptions};
use verax_core::load::{Lane, LoadProfile, Popularity};
use verax_core::{Key, KeyPattern, Name, OriginSettings};
use verax_load::{CachedLane, DirectLane, Plan, run};
use verax_origin::Origin;

/// A server that counts its calls and answers by their number.
async fn server(
    answer: impl Fn(u64) -> Response + Clone + Send + Sync + 'static,
) -> (String, Arc<AtomicU64>) {
    let calls = Arc::new(AtomicU64::new(0));
    let counted = Arc::clone(&calls);
    let handler = move || {
        let response = answer(counted.fetch_add(1, Ordering::SeqCst));
        async move { response }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let router = Router::new().fallback(handler);
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    (url, calls)
}

fn answer(cache_status: &'static str) -> Response {
    ([("cache-status", cache_status)], "board").into_response()
}

fn plan(verax: &str, origin: &str, warm_up: u64, duration: u64) -> Plan {
    let url = verax.to_owned();
    let client = Client::new(ClientOptions { url, ..Default::default() }).unwrap();
    let settings = OriginSettings::http(format!("{origin}/boards/{{harbor}}"));
    Plan {
        profile: LoadProfile {
            name: Name::new("test").unwrap(),
            clients: 2,
            warm_up: Duration::from_secs(warm_up),
            duration: Duration::from_secs(duration),
            popularity: Popularity::Zipf(1.0),
            seed: 1,
        },
        keys: ["board/a", "board/b"].map(|k| Key::new(k).unwrap()).into(),
        cached: CachedLane { namespace: client.namespace("ferrydesk", "boards").unwrap() },
        direct: DirectLane {
            origin: Arc::new(Origin::new(&settings, &Default::default()).unwrap()),
            key_pattern: KeyPattern::parse("board/{harbor}").unwrap(),
        },
    }
}

/// Carries a plan out and keeps what was told of it.
async fn carry_out(plan: Plan, stop: watch::Receiver<bool>) -> (LoadReport, Vec<LoadProgress>) {
    let updates: Arc<Mutex<Vec<LoadProgress>>> = Arc::default();
    let sink = Arc::clone(&updates);
    let report =
        run(plan, move |progress| sink.lock().unwrap().push(progress), stop).await.unwrap();
    let updates = updates.lock().unwrap().clone();
    (report, updates)
}

#[tokio::test(flavor = "multi_thread")]
async fn figures_exclude_the_warm_up_and_add_up_over_seconds() {
    let (verax, cached_calls) = server(|n| match n {
        0 => answer("verax; fwd=uri-miss; fwd-status=200; ttl=30; stored"),
        _ => answer("verax; hit; ttl=30"),
    })
    .await;
    let (origin, direct_calls) = server(|_| "board".into_response()).await;
    let (_keep, stop) = watch::channel(false);
    let (report, updates) = carry_out(plan(&verax, &origin, 1, 2), stop).await;

    assert_eq!(updates.iter().map(|p| p.tick.warm_up).collect::<Vec<_>>(), [true, false, false]);
    assert_eq!(updates.last().unwrap().so_far, report);
    let measured = |lane: fn(&LoadProgress) -> u64| updates[1..].iter().map(lane).sum::<u64>();
    assert_eq!(report.cached.requests, measured(|p| p.tick.cached.requests));
    assert_eq!(report.direct.requests, measured(|p| p.tick.direct.requests));
    // The one miss lay in the warm-up.
    assert_eq!((report.cached.hit_ratio, report.cached.origin_calls), (Some(1.0), 0));
    assert_eq!(
        (report.direct.hit_ratio, report.direct.origin_calls),
        (None, report.direct.requests)
    );
    // The servers saw no fewer calls than were counted, and each lane read its own.
    assert!(cached_calls.load(Ordering::SeqCst) >= report.cached.requests);
    assert!(direct_calls.load(Ordering::SeqCst) >= report.direct.requests);
    assert!((1.9..3.0).contains(&report.measured_seconds), "{report:?}");
    assert_eq!((report.keys, report.errors.len()), (2, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn errors_are_counted_by_message_and_have_no_latency() {
    let problem =
        r#"{"type":"urn:verax:problem:overloaded","title":"T","status":503,"detail":"come back"}"#;
    let (verax, _) =
        server(move |_| (StatusCode::SERVICE_UNAVAILABLE, problem).into_response()).await;
    let (origin, _) = server(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response()).await;
    let (_keep, stop) = watch::channel(false);
    let (report, _) = carry_out(plan(&verax, &origin, 0, 1), stop).await;
    for lane in [report.cached, report.direct] {
        assert!(lane.errors > 0 && lane.errors == lane.requests, "{lane:?}");
        assert_eq!((lane.p50_ms, lane.hit_ratio), (None, None));
    }
    assert_eq!(report.comparison.times_faster_p50, None);
    let mut messages: Vec<_> =
        report.errors.iter().map(|errors| (errors.lane, errors.message.as_str())).collect();
    messages.sort_unstable();
    let expected = [(Lane::Cached, "come back"), (Lane::Direct, "the origin answered 500")];
    assert_eq!(messages, expected);
    let counted: u64 = report.errors.iter().map(|errors| errors.count).sum();
    assert_eq!(counted, report.cached.errors + report.direct.errors);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stopped_run_reports_what_it_measured_so_far() {
    let (verax, _) = server(|_| answer("verax; hit; ttl=30")).await;
    let (origin, _) = server(|_| "board".into_response()).await;
    let (sender, stop) = watch::channel(false);
    let sender = Arc::new(sender);
    let updates = Arc::clone(&sender);
    let first = move |_: LoadProgress| {
        updates.send_replace(true);
    };
    let report = run(plan(&verax, &origin, 0, 600), first, stop).await.unwrap();
    assert!(report.measured_seconds < 60.0, "{report:?}");
    assert!(report.cached.requests > 0 && report.direct.requests > 0);
}

#[tokio::test]
async fn plans_that_cannot_be_run_say_why() {
    let (_keep, stop) = watch::channel(false);
    let mut nothing = plan("http://127.0.0.1:1", "http://127.0.0.1:1", 0, 1);
    nothing.keys.clear();
    let error = run(nothing, |_| {}, stop.clone()).await.unwrap_err();
    assert!(error.contains("no keys"), "{error}");
    let mut nobody = plan("http://127.0.0.1:1", "http://127.0.0.1:1", 0, 1);
    nobody.profile.clients = 0;
    assert!(run(nobody, |_| {}, stop).await.unwrap_err().contains("clients"));
}
