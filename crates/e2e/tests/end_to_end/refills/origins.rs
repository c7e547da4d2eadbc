//! Origins as an administrator sets them up and an application meets them.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use verax_client::{CacheOptions, PutOptions, ReadOptions, Source};
use verax_e2e::{Verax, until};

/// A desk with notices, which can be closed.
#[derive(Clone, Default)]
struct Desk {
    notices: Arc<Mutex<BTreeMap<String, String>>>,
    closed: Arc<Mutex<bool>>,
    calls: Arc<Mutex<u64>>,
}

impl Desk {
    async fn start() -> (Self, SocketAddr) {
        let desk = Self::default();
        let routes = get(read).put(write).delete(remove);
        let router = Router::new().route("/notices/{harbor}", routes).with_state(desk.clone());
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move { axum::serve(listener, router).await });
        (desk, address)
    }

    fn close(&self, closed: bool) {
        *self.closed.lock().unwrap() = closed;
    }

    fn calls(&self) -> u64 {
        *self.calls.lock().unwrap()
    }

    fn has(&self, harbor: &str) -> Option<String> {
        self.notices.lock().unwrap().get(harbor).cloned()
    }

    fn answer(&self, answer: impl FnOnce(&mut BTreeMap<String, String>) -> Response) -> Response {
        *self.calls.lock().unwrap() += 1;
        match *self.closed.lock().unwrap() {
            true => StatusCode::SERVICE_UNAVAILABLE.into_response(),
            false => answer(&mut self.notices.lock().unwrap()),
        }
    }
}

async fn read(State(desk): State<Desk>, Path(harbor): Path<String>) -> Response {
    desk.answer(|notices| match notices.get(&harbor) {
        Some(notice) => notice.clone().into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    })
}

async fn write(State(desk): State<Desk>, Path(harbor): Path<String>, text: String) -> Response {
    desk.answer(|notices| {
        notices.insert(harbor, text);
        StatusCode::NO_CONTENT.into_response()
    })
}

async fn remove(State(desk): State<Desk>, Path(harbor): Path<String>) -> Response {
    desk.answer(|notices| match notices.remove(&harbor) {
        Some(_) => StatusCode::NO_CONTENT.into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    })
}

struct Started {
    verax: Verax,
    desk: Desk,
}

/// Notices that are written through.
async fn started() -> Started {
    let (desk, address) = Desk::start().await;
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let at = format!("http://{address}/notices/{{harbor}}");
    let create = ["origin", "create", "ferrydesk/desk", "--at", &at, "--retry-budget", "0"];
    verax.run(&create).done();
    let create =
        ["namespace", "create", "ferrydesk/notices", "--origin", "desk", "--max-age", "10m"];
    let pattern = ["--key-pattern", "notice/{harbor}", "--write-through", "true"];
    let negative = ["--negative-max-age", "10m"];
    verax.run(&[&create[..], &pattern, &negative].concat()).done();
    Started { verax, desk }
}

#[tokio::test(flavor = "multi_thread")]
async fn write_through_over_http_and_the_cli_reaches_the_origin_first() {
    let Started { verax, desk } = started().await;
    let notices = verax.client().namespace("ferrydesk", "notices").unwrap();
    let put = ["put", "ferrydesk/notices", "notice/saltmere", "fog"];
    verax.run(&put).done();
    assert_eq!(desk.has("saltmere").as_deref(), Some("fog"));
    let found = notices.get("notice/saltmere").await.unwrap().unwrap();
    assert_eq!((&found.value[..], found.source), (&b"fog"[..], Source::Hit));
    // Closed: nothing is changed, and the answer says so.
    desk.close(true);
    let refused = verax.run(&["put", "ferrydesk/notices", "notice/saltmere", "gone"]);
    assert_eq!(refused.code, 1);
    assert!(refused.err.contains("nothing was changed"), "{}", refused.err);
    let refused = notices.put("notice/saltmere", "gone", PutOptions::default()).await.unwrap_err();
    assert_eq!((refused.status(), refused.problem()), (Some(502), Some("origin-failed")));
    let refused = verax.run(&["delete", "ferrydesk/notices", "notice/saltmere"]);
    assert_eq!(refused.code, 1, "{}", refused.err);
    let found = notices.get("notice/saltmere").await.unwrap().unwrap();
    assert_eq!((&found.value[..], found.source), (&b"fog"[..], Source::Hit));
    desk.close(false);
    verax.run(&["delete", "ferrydesk/notices", "notice/saltmere"]).done();
    assert_eq!(desk.has("saltmere"), None);
    // A key of another shape cannot be written through.
    let odd = notices.put("odd", "x", PutOptions::default()).await.unwrap_err();
    assert_eq!(odd.problem(), Some("key-mismatch"), "{odd}");
    // In a batch each operation stands for itself.
    let request = reqwest::Client::new()
        .post(format!("{}/v1/tenants/ferrydesk/namespaces/notices/batch", verax.url()))
        .bearer_auth(verax.token())
        .json(&json!({ "operations": [
            { "put": { "key": "notice/ulla", "text": "ice" } },
            { "put": { "key": "odd", "text": "x" } },
            { "delete": { "key": "notice/nowhere" } },
        ] }));
    let answer: Value = request.send().await.unwrap().json().await.unwrap();
    let kinds: Vec<&str> = answer["results"]
        .as_array()
        .unwrap()
        .iter()
        .map(|result| result.as_object().unwrap().keys().next().unwrap().as_str())
        .collect();
    assert_eq!(kinds, ["stored", "failed", "deleted"]);
    assert_eq!(desk.has("ulla").as_deref(), Some("ice"));
}

#[tokio::test(flavor = "multi_thread")]
async fn write_through_over_the_wire_reaches_the_origin_first() {
    let Started { verax, desk } = started().await;
    let timeout = Duration::from_secs(30);
    let options = CacheOptions { timeout, bound: timeout, ..CacheOptions::default() };
    let notices = verax.client().cache("ferrydesk", "notices", options).unwrap();
    let put = async |text: &'static str| {
        notices.put("notice/ulla", text.as_bytes().to_vec(), PutOptions::default()).await
    };
    assert!(!put("ice").await.unwrap());
    assert!(put("thaw").await.unwrap(), "it replaced one");
    assert_eq!(desk.has("ulla").as_deref(), Some("thaw"));
    desk.close(true);
    assert_eq!(put("ice").await.unwrap_err().problem(), Some("origin-failed"));
    assert_eq!(&notices.get("notice/ulla").await.unwrap().unwrap().value[..], b"thaw");
    desk.close(false);
    assert!(notices.delete("notice/ulla").await.unwrap());
    assert_eq!(desk.has("ulla"), None);
    // That there is none is known from now on without asking.
    assert!(notices.get("notice/ulla").await.unwrap().is_none());
    let calls = desk.calls();
    for _ in 0..5 {
        assert!(notices.get("notice/ulla").await.unwrap().is_none());
    }
    assert_eq!(desk.calls(), calls);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_origin_of_two_servers_shows_which_one_is_healthy() {
    let (one, first) = Desk::start().await;
    let (two, second) = Desk::start().await;
    for desk in [&one, &two] {
        desk.notices.lock().unwrap().insert("ulla".into(), "ice".into());
    }
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let (at, endpoint) = (format!("http://{first}/notices/{{key}}"), format!("http://{second}"));
    let create = ["origin", "create", "ferrydesk/desk", "--at", &at, "--endpoint", &endpoint];
    let guard = [
        "--failure-threshold",
        "1",
        "--open-for",
        "60s",
        "--retry-budget",
        "100",
        "--max-concurrency",
        "8",
    ];
    let shown = verax.run(&[&create[..], &guard].concat()).done();
    assert!(shown.contains("round-robin") && shown.contains(&endpoint), "{shown}");
    verax.run(&["namespace", "create", "ferrydesk/notices", "--origin", "desk"]).done();
    let notices = verax.client().namespace("ferrydesk", "notices").unwrap();
    let refresh = ReadOptions { refresh: true, ..ReadOptions::default() };
    let read = async || notices.look_up("ulla", refresh).await.map(drop);
    for _ in 0..6 {
        read().await.unwrap();
    }
    assert_eq!((one.calls(), two.calls()), (3, 3));
    two.close(true);
    for _ in 0..6 {
        read().await.unwrap();
    }
    assert_eq!(two.calls(), 4, "it was asked once more, and then left alone");
    let show = verax.run(&["origin", "show", "ferrydesk/desk", "--json"]).json();
    assert_eq!(show["breaker"], "closed");
    let breakers: Vec<&Value> =
        show["endpoints"].as_array().unwrap().iter().map(|e| &e["breaker"]).collect();
    assert_eq!(breakers, ["closed", "open"]);
    let list = verax.run(&["origin", "list", "ferrydesk"]).done();
    assert!(list.contains("1 of 2"), "{list}");
    // The metrics count them.
    let request = reqwest::Client::new().get(format!("{}/metrics", verax.url()));
    let metrics = request.bearer_auth(verax.token()).send().await.unwrap().text().await.unwrap();
    let open = "verax_origin_servers{tenant=\"ferrydesk\",origin=\"desk\",breaker=\"open\"} 1";
    assert!(metrics.contains(open), "{metrics}");
    // A change holds at once, and leaves the rest as it was.
    let alone = ["origin", "change", "ferrydesk/desk", "--endpoint", "", "--json"];
    let changed = verax.run(&alone).json();
    assert_eq!(changed["endpoints"].as_array().unwrap().len(), 1);
    assert_eq!(changed["guard"]["max_concurrency"], 8);
    read().await.unwrap();
    // With the circuits of all servers open, callers are refused immediately.
    one.close(true);
    until("it is left alone", async || {
        let refused = read().await.unwrap_err();
        refused.problem() == Some("origin-unavailable")
    })
    .await;
}

#[test]
fn invalid_origin_settings_are_refused_with_a_reason() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let (http, sql) = (["--at", "http://h/x"], ["--at", "mysql://a@h/db"]);
    let cases: [(&[&str], &[&str], i32, &str); 10] = [
        (&sql, &[], 2, "needs --query"),
        (&["--at", "mysql://a:secret@h/db"], &["--query", "SELECT 1"], 4, "leave the password out"),
        (&sql, &["--query", "DELETE FROM t"], 4, "must be one SELECT"),
        (&sql, &["--query", "@/no/such/file"], 2, "/no/such/file"),
        (&http, &["--query", "SELECT 1"], 4, "mysql://"),
        (&http, &["--balance", "random"], 4, "neither round-robin nor least-outstanding"),
        (&http, &["--credential", "not-there"], 4, "VERAX_CREDENTIAL_NOT_THERE"),
        (&http, &["--endpoint", "http://h"], 4, "named twice"),
        (&http, &["--max-concurrency", "0"], 4, "max_concurrency of 0"),
        (&http, &["--retry-budget", "101"], 4, "retry_budget_percent of 101"),
    ];
    for (at, flags, code, says) in cases {
        let refused = verax.run(&[&["origin", "create", "ferrydesk/desk"], at, flags].concat());
        assert_eq!(refused.code, code, "{refused:?}");
        assert!(refused.err.contains(says), "{refused:?}");
        assert!(!refused.err.contains("secret@"), "{refused:?}");
    }
    let none = verax.run(&["origin", "list", "ferrydesk", "--json"]).json();
    assert_eq!(none, json!([]), "nothing was created");
    assert_eq!(verax.run(&["origin", "show", "ferrydesk/desk"]).code, 3);
}
