//! What an application learns about a call: its trace, its id in the service's log, its events.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::extract::Path;
use axum::http::{HeaderMap, StatusCode};
use axum::routing::get;
use rstest::rstest;
use tokio::net::TcpListener;
use verax_client::{
    Cache, CacheEventKind, CacheOptions, LockOptions, LockOutcome, PutMany, PutOptions,
    TraceContext,
};
use verax_e2e::{Verax, until};

/// The trace context of each read of an origin, by key.
type Seen = Arc<Mutex<Vec<(String, Option<String>)>>>;

/// An origin that knows every key but `broken`, which fails.
async fn origin(seen: Seen) -> String {
    let answer = async move |Path(key): Path<String>, headers: HeaderMap| {
        let trace = headers.get("traceparent").map(|field| field.to_str().unwrap().to_owned());
        seen.lock().unwrap().push((key.clone(), trace));
        match &*key {
            "broken" => Err(StatusCode::INTERNAL_SERVER_ERROR),
            _ => Ok("07:10 Saltmere"),
        }
    };
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let router = Router::new().route("/{key}", get(answer));
    tokio::spawn(async move { axum::serve(listener, router).await });
    format!("http://{address}/{{key}}")
}

/// A service whose namespace `ferrydesk/boards` reads an origin.
async fn service(seen: Seen) -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let url = origin(seen).await;
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &url]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--origin", "desk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/notes"]).done();
    verax
}

fn cache(verax: &Verax, door: &str, namespace: &str, options: CacheOptions) -> Cache {
    let options = CacheOptions { timeout: Duration::from_secs(30), ..options };
    match door {
        "http" => verax.client().cache_over_http("ferrydesk", namespace, options),
        _ => verax.client().cache("ferrydesk", namespace, options),
    }
    .unwrap()
}

#[rstest]
#[case("http")]
#[case("wire")]
#[tokio::test]
async fn the_trace_of_a_call_reaches_the_origin(#[case] door: &str) {
    let seen = Seen::default();
    let verax = service(Arc::clone(&seen)).await;
    let spans = AtomicU64::new(1);
    // Every third call is outside of any span.
    let trace = move || {
        let span = spans.fetch_add(1, Ordering::SeqCst);
        (!span.is_multiple_of(3)).then(|| TraceContext {
            traceparent: format!("00-4bf92f3577b34da6a3ce929d0e0e4736-{span:016x}-01"),
            tracestate: Some("desk=7".into()),
        })
    };
    let options = CacheOptions { trace: Some(Arc::new(trace)), ..CacheOptions::default() };
    let boards = cache(&verax, door, "boards", options);
    for key in ["one", "two", "three"] {
        boards.get(key).await.unwrap().unwrap();
    }
    let of = |span: u64| Some(format!("00-4bf92f3577b34da6a3ce929d0e0e4736-{span:016x}-01"));
    let expected = [("one", of(1)), ("two", of(2)), ("three", None)];
    let reads = seen.lock().unwrap().clone();
    assert_eq!(reads, expected.map(|(key, trace)| (key.to_owned(), trace)));
    boards.get_many(&["four", "five"]).await.unwrap();
    let reads = seen.lock().unwrap().clone();
    assert!(reads[3..].len() == 2 && reads[3..].iter().all(|(_, trace)| *trace == of(4)));
}

#[rstest]
#[case("http")]
#[case("wire")]
#[tokio::test]
async fn a_failure_has_the_id_that_the_log_has(#[case] door: &str) {
    let verax = service(Seen::default()).await;
    let boards = cache(&verax, door, "boards", CacheOptions::default());
    let error = boards.get("broken").await.unwrap_err();
    let verax_client::ClientError::Refused(problem) = &error else { unreachable!("{error}") };
    assert_eq!(problem.name(), "origin-failed");
    let id = problem.request_id.clone().unwrap();
    until("the log has the failure", async || verax.log().contains(&id)).await;
}

#[rstest]
#[case("http")]
#[case("wire")]
#[tokio::test]
async fn the_holder_of_a_lock_is_told_with_its_time(#[case] door: &str) {
    let verax = service(Seen::default()).await;
    let notes = cache(&verax, door, "notes", CacheOptions::default());
    let options = LockOptions { owner: Some("desk 1".into()), ..LockOptions::default() };
    let held = notes.hold_lock("berth-7", &options).await.unwrap();
    assert!(matches!(held, LockOutcome::Acquired(_)));
    until("the lock was held for a while", async || {
        let holder = notes.peek_lock("berth-7").await.unwrap().unwrap();
        assert_eq!(holder.owner, "desk 1");
        holder.held_seconds >= 0.01
    })
    .await;
    let LockOutcome::HeldByOther(holder) = notes.hold_lock("berth-7", &options).await.unwrap()
    else {
        unreachable!("it is held");
    };
    assert!(holder.held_seconds >= 0.01, "{holder:?}");
}

#[rstest]
#[case("http")]
#[case("wire")]
#[tokio::test]
async fn a_batch_is_one_event_for_each_key(#[case] door: &str) {
    let verax = service(Seen::default()).await;
    let events: Arc<Mutex<Vec<(CacheEventKind, usize, bool)>>> = Arc::default();
    let noted = Arc::clone(&events);
    let hook = move |event: &verax_client::CacheEvent<'_>| {
        noted.lock().unwrap().push((event.kind, event.bytes, event.reason.is_some()));
    };
    let options = CacheOptions { hook: Some(Arc::new(hook)), ..CacheOptions::default() };
    let notes = cache(&verax, door, "notes", options);
    let put = |key: &str| PutMany {
        key: key.into(),
        value: "a note".into(),
        options: PutOptions::default(),
    };
    notes.put_many(&[put("a"), put("b"), put("")]).await.unwrap();
    notes.get_many(&["a", "none", "", "b"]).await.unwrap();
    notes.delete_many(&["a", "none"]).await.unwrap();
    use CacheEventKind::{Delete, Failure, Hit, Miss, Put};
    let expected = [
        (Put, 6, false),
        (Put, 6, false),
        (Put, 6, true),
        (Hit, 6, false),
        (Miss, 0, false),
        (Failure, 0, true),
        (Hit, 6, false),
        (Delete, 0, false),
        (Delete, 0, false),
    ];
    assert_eq!(*events.lock().unwrap(), expected);
}
