//! What the service does with origins: negative results, early refresh, writing through, queries.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use axum::Router;
use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use bytes::Bytes;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use rstest::rstest;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::sync::Mutex;
use verax_api::{CreateOrigin, OriginChange, OriginChoice, PolicyChange, SqlChange};
use verax_control::Expected;
use verax_control::{ControlError, ControlOptions};
use verax_core::Precondition;
use verax_core::entry::NEGATIVE_TYPE;
use verax_core::lifetime::CacheControl;
use verax_engine::cache::{PermitOutcome, PermitRequest, PutRequest, ReadOptions};
use verax_engine::events::RefillOutcome;
use verax_engine::{EngineError, InvalidInput};
use verax_records::launcher::PrivateServer;
use verax_service::ServiceOptions;

use crate::fixture::{Fixture, Opened, in_control, key, name, until, value};

/// A desk that keeps one value for each key, takes new ones, and can be told to fail.
#[derive(Clone, Default)]
struct Desk {
    values: Arc<Mutex<std::collections::BTreeMap<String, Bytes>>>,
    calls: Arc<AtomicU64>,
    /// The status for everything while it is not 0.
    fails: Arc<AtomicU64>,
    slow_ms: Arc<AtomicU64>,
}

impl Desk {
    async fn serve(&self) -> String {
        let (read, write, remove) = (self.clone(), self.clone(), self.clone());
        let route = get(async move |Path(key): Path<String>| read.read(key).await)
            .put(async move |Path(key): Path<String>, body: Bytes| {
                write.write(key, Some(body)).await
            })
            .delete(async move |Path(key): Path<String>| remove.write(key, None).await);
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = format!("http://{}", listener.local_addr().unwrap());
        let router = Router::new().route("/{key}", route);
        tokio::spawn(async move { axum::serve(listener, router).await });
        at
    }

    async fn begin(&self) -> Result<(), StatusCode> {
        self.calls.fetch_add(1, Ordering::SeqCst);
        tokio::time::sleep(Duration::from_millis(self.slow_ms.load(Ordering::SeqCst))).await;
        match self.fails.load(Ordering::SeqCst) {
            0 => Ok(()),
            status => Err(StatusCode::from_u16(status as u16).unwrap()),
        }
    }

    async fn read(&self, key: String) -> Result<Response, StatusCode> {
        self.begin().await?;
        let value = self.values.lock().await.get(&key).cloned().ok_or(StatusCode::NOT_FOUND)?;
        Ok(([("cache-groups", "\"boards\"")], value).into_response())
    }

    async fn write(&self, key: String, value: Option<Bytes>) -> Result<(), StatusCode> {
        self.begin().await?;
        let mut values = self.values.lock().await;
        match value {
            Some(value) => drop(values.insert(key, value)),
            None => drop(values.remove(&key)),
        }
        Ok(())
    }

    async fn has(&self, key: &str, value: &'static str) {
        self.values.lock().await.insert(key.into(), Bytes::from_static(value.as_bytes()));
    }

    fn calls(&self) -> u64 {
        self.calls.load(Ordering::SeqCst)
    }
}

struct Started {
    fixture: Fixture,
    desk: Desk,
    boards: Opened,
}

async fn started(policy: PolicyChange) -> Started {
    let (fixture, desk) = (Fixture::start(ServiceOptions::default()).await, Desk::default());
    fixture.namespace("ferrydesk", "boards", Some(&desk.serve().await)).await;
    let (tenant, namespace) = (name("ferrydesk"), name("boards"));
    let changed = fixture.service.control().change_namespace(
        &fixture.admin,
        &tenant,
        &namespace,
        &policy,
        Expected::Any,
    );
    changed.await.unwrap();
    let boards = fixture.opened("ferrydesk/boards");
    Started { fixture, desk, boards }
}

impl Started {
    /// The value of a key, or the kind of what came instead.
    async fn read(&self, k: &str) -> Result<String, String> {
        let caller = &self.fixture.admin;
        match self.fixture.read(caller, "ferrydesk/boards", k).await {
            Ok(Some(answer)) => Ok(String::from_utf8(answer.entry.value.to_vec()).unwrap()),
            Ok(None) => Err("miss".into()),
            Err(ControlError::Engine(EngineError::Origin(error))) => Err(error.kind().into()),
            Err(ControlError::Engine(EngineError::NegativeResult { .. })) => Err("negative".into()),
            Err(error) => Err(error.to_string()),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn negative_entries_have_their_own_max_age_and_end_with_a_write() {
    let kept = PolicyChange { negative_max_age_seconds: Some(3_600.0), ..Default::default() };
    let all = started(kept).await;
    assert_eq!(all.read("k").await, Err("no-value".into()));
    for _ in 0..5 {
        assert_eq!(all.read("k").await, Err("negative".into()));
    }
    assert_eq!(all.desk.calls(), 1, "the origin was asked once");
    let counters = all.fixture.reading("ferrydesk/boards");
    assert_eq!(counters.negative_hits, 5);
    assert_eq!(counters.refills[RefillOutcome::NoValue as usize], 1);
    assert_eq!(counters.reads, 6);
    // It is no value: what asks for the key to be absent stores over it, and so does a counter.
    let absent = PutRequest { condition: Precondition::IfAbsent, ..value("v") };
    assert!(!all.boards.writer.put(&key("k"), absent, None).await.unwrap().replaced);
    assert_eq!(all.read("k").await, Ok("v".into()));
    // An invalidation ends it too.
    assert_eq!(all.read("other").await, Err("no-value".into()));
    all.desk.has("other", "there now").await;
    assert_eq!(all.read("other").await, Err("negative".into()));
    all.boards.deleter.delete(&key("other"), Precondition::Always, None).await.unwrap();
    assert_eq!(all.read("other").await, Ok("there now".into()));
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stale_copy_of_a_deleted_value_is_not_served() {
    let short = PolicyChange {
        max_age_seconds: Some(0.001),
        stale_if_error_seconds: Some(3_600.0),
        ..Default::default()
    };
    let all = started(short).await;
    all.desk.has("k", "v").await;
    assert_eq!(all.read("k").await, Ok("v".into()));
    all.desk.values.lock().await.clear();
    until("it is stale", async || all.read("k").await == Err("no-value".into())).await;
    // Although the origin now fails in a way that policy has an old copy for.
    all.desk.fails.store(500, Ordering::SeqCst);
    assert_eq!(all.read("k").await, Err("status".into()));
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn permit_holders_may_store_a_negative_entry() {
    let all = started(PolicyChange { origin: Some(None), ..Default::default() }).await;
    let k = key("k");
    let ask = |refresh| PermitRequest {
        owner: "a test".into(),
        wait: Duration::ZERO,
        lease: Duration::from_secs(60),
        stale: false,
        refresh,
        access: None,
    };
    let PermitOutcome::Permit(permit) =
        all.boards.refiller.acquire_permit(&k, ask(false)).await.unwrap()
    else {
        panic!("it is missing")
    };
    let none = PutRequest { media_type: NEGATIVE_TYPE.into(), ..value("") };
    let full = PutRequest { media_type: NEGATIVE_TYPE.into(), ..value("v") };
    let refused = all.boards.writer.store_with_permit(&k, permit.number, full).unwrap_err();
    assert!(
        matches!(refused, EngineError::Invalid(InvalidInput::NegativeValue { .. })),
        "{refused}"
    );
    all.boards.writer.store_with_permit(&k, permit.number, none).unwrap();
    let known = all.boards.refiller.acquire_permit(&k, ask(false)).await.unwrap_err();
    assert!(matches!(known, EngineError::NegativeResult { .. }), "{known}");
    let again = all.boards.refiller.acquire_permit(&k, ask(true)).await.unwrap();
    assert!(matches!(again, PermitOutcome::Permit(_)), "it is wanted all the same");
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hot_entry_is_refreshed_early_and_no_caller_waits() {
    // The largest factor makes a refill of 50 ms reach half a second and more before the end.
    let early = PolicyChange {
        max_age_seconds: Some(2.0),
        early_refresh_percent: Some(1_000),
        ..Default::default()
    };
    let all = started(early).await;
    all.desk.slow_ms.store(50, Ordering::SeqCst);
    all.desk.has("k", "v").await;
    assert_eq!(all.read("k").await, Ok("v".into()));
    until("it was refreshed", async || {
        assert_eq!(all.read("k").await, Ok("v".into()));
        all.desk.calls() >= 2
    })
    .await;
    let counters = all.fixture.reading("ferrydesk/boards");
    // The first caller alone waited for the origin. On a machine that stops for two seconds the
    // entry may end first, and then one more does.
    let waited = counters.refilled + counters.joined;
    assert!(waited <= 2, "{waited} callers waited");
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn without_an_origin_one_caller_gets_an_early_permit() {
    let early = PolicyChange {
        max_age_seconds: Some(1.0),
        early_refresh_percent: Some(1_000),
        origin: Some(None),
        ..Default::default()
    };
    let all = started(early).await;
    let k = key("k");
    let request = PermitRequest {
        owner: "a test".into(),
        wait: Duration::ZERO,
        lease: Duration::from_secs(60),
        stale: false,
        refresh: false,
        access: None,
    };
    let PermitOutcome::Permit(permit) =
        all.boards.refiller.acquire_permit(&k, request.clone()).await.unwrap()
    else {
        panic!("it is missing")
    };
    tokio::time::sleep(Duration::from_millis(60)).await;
    let day = CacheControl { max_age: Some(Duration::from_millis(700)), ..Default::default() };
    let slow = PutRequest { cache_control: day, ..value("v") };
    all.boards.writer.store_with_permit(&k, permit.number, slow).unwrap();
    let mut early = None;
    until("it is due", async || {
        match all.boards.refiller.acquire_permit(&k, request.clone()).await.unwrap() {
            PermitOutcome::Permit(permit) => early = Some(permit),
            PermitOutcome::Value(_) => {}
            PermitOutcome::Later(_) => panic!("there is a value"),
        }
        early.is_some()
    })
    .await;
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_through_reaches_the_origin_first() {
    let through = PolicyChange { write_through: Some(true), ..Default::default() };
    let all = started(through).await;
    let k = key("k");
    all.desk.has("k", "old").await;
    assert_eq!(all.read("k").await, Ok("old".into()));
    all.boards.writer.put(&k, value("new"), None).await.unwrap();
    assert_eq!(all.desk.values.lock().await["k"], "new");
    assert_eq!(all.read("k").await, Ok("new".into()));
    // A write that the origin refuses changes nothing.
    all.desk.fails.store(403, Ordering::SeqCst);
    let refused = all.boards.writer.put(&k, value("no"), None).await.unwrap_err();
    let EngineError::NotWritten { error } = &refused else { panic!("{refused}") };
    assert!(error.is_certain());
    assert_eq!(all.read("k").await, Ok("new".into()));
    // A condition that does not hold, or a value that is too large, never reaches the origin.
    let calls = all.desk.calls();
    let absent = PutRequest { condition: Precondition::IfAbsent, ..value("no") };
    let refused = all.boards.writer.put(&k, absent, None).await.unwrap_err();
    assert_eq!(refused, EngineError::ConditionFailed);
    let large = PutRequest { value: vec![0; 2 << 20].into(), ..value("") };
    all.boards.writer.put(&k, large, None).await.unwrap_err();
    assert_eq!(all.desk.calls(), calls);
    all.desk.fails.store(0, Ordering::SeqCst);
    assert!(all.boards.deleter.delete(&k, Precondition::Always, None).await.unwrap());
    assert!(all.desk.values.lock().await.is_empty());
    assert_eq!(all.read("k").await, Err("no-value".into()));
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_of_unknown_outcome_removes_the_entry() {
    let through = PolicyChange { write_through: Some(true), ..Default::default() };
    let all = started(through).await;
    let (service, admin, k) = (&all.fixture.service, &all.fixture.admin, key("k"));
    all.desk.has("k", "old").await;
    assert_eq!(all.read("k").await, Ok("old".into()));
    let change = OriginChange { total_timeout_ms: Some(200), ..Default::default() };
    service
        .control()
        .change_origin(admin, &name("ferrydesk"), &name("desk"), &change, Expected::Any)
        .await
        .unwrap();
    all.desk.slow_ms.store(10_000, Ordering::SeqCst);
    let refused = all.boards.writer.put(&k, value("new"), None).await.unwrap_err();
    let EngineError::NotWritten { error } = &refused else { panic!("{refused}") };
    assert!(!error.is_certain() && refused.to_string().contains("was removed"), "{refused}");
    assert!(all.boards.reader.show(&k, all.fixture.service.engine().now()).is_none());
    all.fixture.end().await;
}

#[rstest]
#[case(500, true)]
#[case(409, true)]
#[case(502, false)]
#[case(504, false)]
#[tokio::test(flavor = "multi_thread")]
async fn an_ambiguous_gateway_error_leaves_no_entry(#[case] status: u64, #[case] kept: bool) {
    let through = PolicyChange { write_through: Some(true), ..Default::default() };
    let all = started(through).await;
    let k = key("k");
    all.desk.has("k", "old").await;
    assert_eq!(all.read("k").await, Ok("old".into()));
    all.desk.fails.store(status, Ordering::SeqCst);
    all.boards.writer.put(&k, value("new"), None).await.unwrap_err();
    assert_eq!(all.boards.reader.show(&k, all.fixture.service.engine().now()).is_some(), kept);
    all.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn concurrent_writes_of_one_key_leave_entry_and_origin_equal() {
    let through = PolicyChange { write_through: Some(true), ..Default::default() };
    let all = started(through).await;
    all.desk.slow_ms.store(2, Ordering::SeqCst);
    let begun = Arc::new(AtomicU64::new(0));
    let writers: Vec<_> = (0..40)
        .map(|n| {
            let boards = all.boards.clone();
            let begun = Arc::clone(&begun);
            tokio::spawn(async move {
                // What has begun is carried out, whoever goes away.
                begun.fetch_add(1, Ordering::SeqCst);
                let request = PutRequest { value: n.to_string().into(), ..value("") };
                boards.writer.put(&key("k"), request, None).await.map(drop)
            })
        })
        .collect();
    until("all have begun", async || begun.load(Ordering::SeqCst) == 40).await;
    // A third of the callers goes away in the middle.
    for (n, writer) in writers.into_iter().enumerate() {
        match n % 3 {
            0 => writer.abort(),
            _ => writer.await.unwrap().unwrap(),
        }
    }
    until("all have written", async || {
        let at_desk = all.desk.values.lock().await["k"].clone();
        all.desk.calls() == 40 && all.read("k").await.unwrap().as_bytes() == at_desk
    })
    .await;
    all.fixture.end().await;
}

/// How a writer tells the cache that what it wrote has changed.
#[derive(Debug, Clone, Copy)]
enum Tell {
    Delete,
    Tag,
    Prefix,
    Through,
}

/// Writers that count up at the origin and tell the cache, and readers beside them, with everything
/// on that serves or stores copies by itself: whoever reads after a writer was done has what it
/// wrote, or something newer.
#[rstest]
#[case(Tell::Delete)]
#[case(Tell::Tag)]
#[case(Tell::Prefix)]
#[case(Tell::Through)]
#[tokio::test(flavor = "multi_thread")]
async fn no_older_value_is_read_after_a_write_is_acknowledged(#[case] tell: Tell) {
    let restless = PolicyChange {
        max_age_seconds: Some(0.02),
        stale_while_revalidate_seconds: Some(600.0),
        stale_if_error_seconds: Some(600.0),
        negative_max_age_seconds: Some(600.0),
        early_refresh_percent: Some(1_000),
        write_through: Some(matches!(tell, Tell::Through)),
        ..Default::default()
    };
    let all = Arc::new(started(restless).await);
    all.desk.slow_ms.store(1, Ordering::SeqCst);
    // What was written last, and told.
    let acknowledged = Arc::new(AtomicU64::new(0));
    let stop = Arc::new(std::sync::atomic::AtomicBool::new(false));
    let readers: Vec<_> = (0..6)
        .map(|_| {
            let (all, acknowledged, stop) =
                (Arc::clone(&all), Arc::clone(&acknowledged), Arc::clone(&stop));
            tokio::spawn(async move {
                let mut reads = 0u64;
                while !stop.load(Ordering::SeqCst) {
                    let least = acknowledged.load(Ordering::SeqCst);
                    let read = all.read("k").await.map_or(0, |text| text.parse().unwrap());
                    assert!(
                        read >= least,
                        "{read} was read after {least} was acknowledged ({tell:?})"
                    );
                    reads += 1;
                    // A hit waits for nothing, and others are to run as well.
                    tokio::task::yield_now().await;
                }
                reads
            })
        })
        .collect();
    let (service, admin) = (Arc::clone(&all.fixture.service), &all.fixture.admin);
    let (tenant, namespace) = (name("ferrydesk"), name("boards"));
    for written in 1..=150u64 {
        let text = Bytes::from(written.to_string());
        if !matches!(tell, Tell::Through) {
            all.desk.values.lock().await.insert("k".into(), text.clone());
        }
        match tell {
            Tell::Delete => {
                all.boards.deleter.delete(&key("k"), Precondition::Always, None).await.unwrap();
            }
            Tell::Tag => drop(all.boards.deleter.invalidate_tag("boards")),
            Tell::Prefix => {
                let place = (&tenant, &namespace);
                service.control().clear_prefix(admin, place, "k").await.unwrap();
            }
            Tell::Through => {
                let request = PutRequest { value: text, ..value("") };
                all.boards.writer.put(&key("k"), request, None).await.unwrap();
            }
        }
        acknowledged.store(written, Ordering::SeqCst);
        tokio::time::sleep(Duration::from_millis(written % 4)).await;
    }
    stop.store(true, Ordering::SeqCst);
    for reader in readers {
        assert!(reader.await.unwrap() > 0);
    }
    Arc::into_inner(all).unwrap().fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn stale_hits_in_an_outage_begin_no_refills() {
    let policy = PolicyChange {
        max_age_seconds: Some(0.01),
        stale_while_revalidate_seconds: Some(600.0),
        ..Default::default()
    };
    let all = started(policy).await;
    // One key's failures alone would not be its server's.
    let keys: Vec<String> = (0..10).map(|n| format!("k{n}")).collect();
    for key in &keys {
        all.desk.has(key, "v").await;
        assert_eq!(all.read(key).await, Ok("v".into()));
    }
    all.desk.fails.store(500, Ordering::SeqCst);
    let counters = || all.fixture.reading("ferrydesk/boards");
    until("its server is set aside", async || {
        for key in &keys {
            assert_eq!(all.read(key).await, Ok("v".into()));
        }
        counters().origin_refusals > 0
    })
    .await;
    let before = counters();
    for key in keys.iter().cycle().take(500) {
        assert_eq!(all.read(key).await, Ok("v".into()));
    }
    let after = counters();
    let ended = |of: &verax_observe::CounterReading| of.refills.iter().sum::<u64>();
    // Now and then one is let through, to see.
    assert!(ended(&after) - ended(&before) < 20, "{before:?} {after:?}");
    assert!(after.origin_refusals - before.origin_refusals > 480, "{before:?} {after:?}");
    // It is refreshed as soon as the origin is back.
    all.desk.fails.store(0, Ordering::SeqCst);
    all.desk.has("k0", "again").await;
    until("the origin is back", async || all.read("k0").await == Ok("again".into())).await;
    all.fixture.end().await;
}

/// A MariaDB with a few gauges, and the name of the secret that opens it.
async fn gauges(url: &str, credentials: &std::path::Path) -> String {
    let mut connection = AsyncMysqlConnection::establish(url).await.unwrap();
    connection
        .batch_execute(
            "CREATE DATABASE tides; \
             CREATE TABLE tides.readings (gauge VARCHAR(20) PRIMARY KEY, level DECIMAL(6,2), \
               depth DOUBLE, taken DATETIME(3), day DATE, span TIME, at TIMESTAMP, raw VARBINARY(4), \
               note TEXT, flags BIT(10), wide BIGINT UNSIGNED); \
             INSERT INTO tides.readings VALUES ('north', 12.50, 0.1, '2026-03-01 04:05:06.5', \
               '2026-03-01', '-26:10:00', '2026-03-01 00:00:00', x'ff00', 'café \"x\"', b'1010', \
               18446744073709551615), \
               ('south', -1, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
        )
        .await
        .unwrap();
    let parsed = url.strip_prefix("mysql://verax:").unwrap();
    let (password, place) = parsed.split_once('@').unwrap();
    std::fs::write(credentials.join("tides"), password).unwrap();
    format!("mysql://verax@{}", place.replace("/verax", "/tides"))
}

struct Sql {
    fixture: Fixture,
    url: String,
    _credentials: tempfile::TempDir,
    /// A MariaDB of its own: no origin may lead to the records.
    _server: PrivateServer,
    _directory: tempfile::TempDir,
}

async fn sql() -> Sql {
    let credentials = tempfile::tempdir().unwrap();
    let credentials_dir = Some(credentials.path().to_owned());
    let options = in_control(ControlOptions { credentials_dir, ..Default::default() });
    let fixture = Fixture::start(options).await;
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let url = gauges(&server.url("verax"), credentials.path()).await;
    fixture.service.control().create_tenant(&fixture.admin, "tideline").await.unwrap();
    Sql { fixture, url, _credentials: credentials, _server: server, _directory: directory }
}

impl Sql {
    /// Binds a namespace to a query of this name, or says why that is refused.
    async fn bind(&self, namespace: &str, sql: SqlChange) -> Result<(), ControlError> {
        let origin = CreateOrigin {
            name: namespace.into(),
            url: self.url.clone(),
            credential: Some("tides".into()),
            total_timeout_ms: Some(2_000),
            max_response_bytes: Some(2_000),
            sql: Some(sql),
            ..Default::default()
        };
        let (service, admin, tenant) =
            (&self.fixture.service, &self.fixture.admin, name("tideline"));
        service.control().create_origin(admin, &tenant, &origin).await?;
        let choice =
            OriginChoice { name: namespace.into(), key_pattern: Some("gauge/{gauge}".into()) };
        let policy = PolicyChange { origin: Some(Some(choice)), ..Default::default() };
        service.control().create_namespace(admin, &tenant, namespace, &policy).await.map(drop)
    }

    async fn read(&self, namespace: &str, k: &str) -> Result<Value, ControlError> {
        let path = format!("tideline/{namespace}");
        let answer = self.fixture.read(&self.fixture.admin, &path, k).await?.unwrap();
        assert_eq!(answer.entry.media_type.as_str(), "application/json");
        Ok(serde_json::from_slice(&answer.entry.value).unwrap())
    }
}

fn query(text: &str, result: &str) -> SqlChange {
    SqlChange { query: Some(text.into()), result: Some(result.into()), max_rows: Some(100) }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_query_serves_as_an_origin() {
    let sql = sql().await;
    let all = "SELECT gauge, level, depth, taken, day, span, at, raw, note, flags, wide \
               FROM readings WHERE gauge = :gauge";
    sql.bind("row", query(all, "row")).await.unwrap();
    let north = json!({
        "gauge": "north", "level": 12.50, "depth": 0.1, "taken": "2026-03-01T04:05:06.500000",
        "day": "2026-03-01", "span": "-26:10:00", "at": "2026-03-01T00:00:00Z", "raw": "/wA=",
        "note": "café \"x\"", "flags": 10, "wide": u64::MAX,
    });
    assert_eq!(sql.read("row", "gauge/north").await.unwrap(), north);
    let south = sql.read("row", "gauge/south").await.unwrap();
    assert_eq!((&south["level"], &south["note"]), (&json!(-1.0), &Value::Null));
    // A key is a value, whatever it holds.
    for hostile in ["gauge/x' OR '1'='1", "gauge/north'; DROP TABLE readings; --"] {
        let none = sql.read("row", hostile).await.unwrap_err();
        let ControlError::Engine(EngineError::Origin(error)) = &none else { panic!("{none}") };
        assert_eq!(error.kind(), "no-value", "{hostile}");
    }
    sql.bind("rows", query("SELECT gauge FROM readings WHERE gauge >= :gauge ORDER BY 1", "rows"))
        .await
        .unwrap();
    let both = json!([{ "gauge": "north" }, { "gauge": "south" }]);
    assert_eq!(sql.read("rows", "gauge/a").await.unwrap(), both);
    assert_eq!(sql.read("rows", "gauge/z").await.unwrap(), json!([]));
    sql.fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_query_is_bounded_and_changes_nothing() {
    let sql = sql().await;
    let numbers = |most: u32| format!("SELECT seq AS n, :gauge AS g FROM seq_1_to_{most}");
    let cases = [
        ("two", "SELECT gauge FROM readings WHERE :gauge <> ''".to_owned(), "row", "query"),
        ("many", numbers(101), "rows", "too-large"),
        ("large", format!("SELECT REPEAT(:gauge, {}) AS a", 600), "rows", "too-large"),
        (
            "endless",
            "SELECT SLEEP(60) AS a, :gauge AS g FROM readings".to_owned(),
            "rows",
            "timeout",
        ),
        ("wrong", "SELECT nothing FROM readings WHERE gauge = :gauge".to_owned(), "rows", "query"),
        ("locking", "SELECT NEXT VALUE FOR numbers AS n, :gauge AS g".to_owned(), "rows", "query"),
    ];
    for (namespace, text, result, kind) in cases {
        sql.bind(namespace, query(&text, result)).await.unwrap();
        let error = sql.read(namespace, "gauge/north").await.unwrap_err();
        let ControlError::Engine(EngineError::Origin(error)) = &error else {
            panic!("{namespace}: {error}")
        };
        assert_eq!(error.kind(), kind, "{namespace}: {error}");
    }
    // The same rows within the bound are fine, and the connection that was cut off is not missed.
    sql.bind("enough", query(&numbers(40), "rows")).await.unwrap();
    assert_eq!(sql.read("enough", "gauge/n").await.unwrap().as_array().unwrap().len(), 40);
    sql.fixture.end().await;
}

#[rstest]
#[case("DELETE FROM readings", "must be one SELECT")]
#[case("SELECT ?", "without a name")]
#[case("SELECT :harbor", "needs a value for {harbor}")]
#[tokio::test(flavor = "multi_thread")]
async fn an_invalid_query_is_refused_at_registration(#[case] text: &str, #[case] says: &str) {
    let sql = sql().await;
    let error = sql.bind("gauges", query(text, "rows")).await.unwrap_err().to_string();
    assert!(error.contains(says), "{error}");
    sql.fixture.end().await;
}

/// Who asks for what the origin says now gets nothing that was read before that.
#[tokio::test(flavor = "multi_thread")]
async fn a_forced_refresh_does_not_join_an_earlier_read() {
    let all = started(PolicyChange::default()).await;
    all.desk.has("k", "old").await;
    all.desk.slow_ms.store(400, Ordering::SeqCst);
    let before = tokio::spawn({
        let reader = all.boards.reader.clone();
        async move { reader.read(&key("k"), ReadOptions::default()).await }
    });
    until("it is being read", async || all.desk.calls() == 1).await;
    let mut anew = tokio::task::JoinSet::new();
    for _ in 0..5 {
        let reader = all.boards.reader.clone();
        let options = ReadOptions { refresh: true, ..ReadOptions::default() };
        anew.spawn(async move { reader.read(&key("k"), options).await });
    }
    // Others who do not ask for it anew wait for the read that is under way.
    let joined = all.boards.reader.read(&key("k"), ReadOptions::default()).await.unwrap();
    assert!(joined.is_some() && before.await.unwrap().unwrap().is_some());
    while let Some(read) = anew.join_next().await {
        assert!(read.unwrap().unwrap().is_some());
    }
    assert_eq!(all.desk.calls(), 2, "one more read, for all of them");
    all.fixture.end().await;
}
