//! Changes and their taking effect: whatever becomes of callers, of MariaDB and of the records in
//! it.

use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::fixture::{Fixture, in_control, key, name, open, until, value};
use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use futures_util::FutureExt;
use nix::sys::signal::{Signal, kill};
use tokio::task::JoinSet;
use verax_api::{CreateOrigin, CreateSession, OriginChoice, PolicyChange, SqlChange};
use verax_control::access::Caller;
use verax_control::{ControlError, ControlOptions};
use verax_control::{Expected, policy_tag};
use verax_core::access::{Right, Scope};
use verax_core::guard::lock::{FencingToken, Grant};
use verax_engine::cache::{PermitOutcome, PermitRequest, ReadOptions};
use verax_engine::locks::{LockCounts, LockRequest};
use verax_engine::{EngineError, EngineOptions, LeasedBy};
use verax_service::{Service, ServiceOptions};

/// Starts a call and leaves before its answer.
async fn leave<R>(call: impl Future<Output = R>) {
    let mut call = Box::pin(call);
    assert!((&mut call).now_or_never().is_none(), "it was answered already");
    tokio::task::yield_now().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_complete_after_their_caller_vanishes() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.control().create_tenant(admin, "tideline").await.unwrap();
    let tideline = name("tideline");
    let mut tokens = Vec::new();
    for n in 0..20 {
        let scopes = ["read:tideline".to_owned()];
        tokens.push(
            service
                .control()
                .create_token(admin, &verax_api::CreateToken::new(&scopes, ""))
                .await
                .unwrap(),
        );
        let policy = PolicyChange::default();
        service
            .control()
            .create_namespace(admin, &tideline, &format!("old-{n}"), &policy)
            .await
            .unwrap();
    }
    for (n, token) in tokens.iter().enumerate() {
        leave(service.control().revoke_token(admin, token.token.id)).await;
        let (new, old) = (format!("new-{n}"), name(&format!("old-{n}")));
        leave(service.control().create_namespace(admin, &tideline, &new, &PolicyChange::default()))
            .await;
        leave(service.control().delete_namespace(admin, &tideline, &old)).await;
    }
    until("every revocation has taken effect", async || {
        tokens.iter().all(|token| service.control().token_caller(&token.secret).is_err())
    })
    .await;
    let served = || -> Vec<String> {
        let namespaces = service.control().namespaces(admin, &tideline).unwrap();
        namespaces.into_iter().map(|namespace| namespace.name).collect()
    };
    until("what was created is served, and what was deleted is not", async || {
        let served = served();
        served.len() == 20 && served.iter().all(|name| name.starts_with("new-"))
    })
    .await;
    let records = fixture.records.namespaces().await.unwrap();
    let recorded: Vec<String> = records.iter().map(|record| record.name.to_string()).collect();
    assert_eq!(served(), recorded);
    fixture.end().await;
}

/// MariaDB stands still for longer than a caller waits: the caller is told that the outcome is not
/// known, and memory follows as soon as it is.
#[tokio::test(flavor = "multi_thread")]
async fn a_late_commit_reply_still_reaches_memory() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.control().create_tenant(admin, "tideline").await.unwrap();
    let secret = fixture.token(&["read:tideline"]).await;
    let id = service.control().tokens(admin, 0, 1_000).await.unwrap().last().unwrap().id;
    for stop_ms in [300, 3_000, 12_000] {
        let (mariadb, tenant) = (fixture.mariadb(), format!("after-{stop_ms}"));
        kill(mariadb, Signal::SIGSTOP).unwrap();
        let began = Instant::now();
        let created = tokio::spawn({
            let (service, admin, tenant) = (Arc::clone(service), admin.clone(), tenant.clone());
            async move { service.control().create_tenant(&admin, &tenant).await.is_ok() }
        });
        tokio::time::sleep(Duration::from_millis(stop_ms)).await;
        kill(mariadb, Signal::SIGCONT).unwrap();
        let acknowledged = created.await.unwrap();
        assert!(began.elapsed() < Duration::from_secs(30));
        until("the records are back", async || service.control().records_available()).await;
        until("memory holds what the records hold", async || {
            let recorded = fixture.records.tenants().await.unwrap();
            let recorded = recorded.iter().any(|record| record.name.as_str() == tenant);
            let served =
                service.control().tenants(admin).iter().any(|served| served.name == tenant);
            recorded == served && (recorded || !acknowledged)
        })
        .await;
    }
    // A revocation whose answer was lost is a revocation all the same, if it was made.
    let mariadb = fixture.mariadb();
    kill(mariadb, Signal::SIGSTOP).unwrap();
    let revoked = service.control().revoke_token(admin, id);
    let _ = tokio::time::timeout(Duration::from_millis(200), revoked).await;
    kill(mariadb, Signal::SIGCONT).unwrap();
    until("memory knows whether the token was revoked", async || {
        let tokens = fixture.records.tokens().await.unwrap();
        let open = tokens.iter().any(|token| token.id == id && token.revoked_at.is_none());
        service.control().records_available()
            && service.control().token_caller(&secret).is_ok() == open
    })
    .await;
    fixture.end().await;
}

const TABLES: [&str; 8] =
    ["tenants", "origins", "namespaces", "tokens", "activity", "runs", "lock_epochs", "revisions"];

async fn dump(connection: &mut AsyncMysqlConnection) {
    let mut dump = String::from("CREATE DATABASE dump;");
    for table in TABLES {
        dump += &format!("CREATE TABLE dump.{table} AS SELECT * FROM {table};");
    }
    connection.batch_execute(&dump).await.unwrap();
}

async fn restore(connection: &mut AsyncMysqlConnection) {
    let mut restore = String::from("SET foreign_key_checks = 0;");
    for table in TABLES {
        restore += &format!("TRUNCATE {table}; INSERT INTO {table} SELECT * FROM dump.{table};");
    }
    connection.batch_execute(&restore).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restored_dump_is_detected() {
    let directory = tempfile::tempdir().unwrap();
    let options = in_control(ControlOptions {
        records_snapshot: Some(directory.path().join("records.snapshot")),
        epoch_file: Some(directory.path().join("lock.epoch")),
        ..Default::default()
    });
    let fixture = Fixture::start(options.clone()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    fixture.namespace("quayside", "berths", None).await;
    let mut connection =
        AsyncMysqlConnection::establish(fixture.records.url().unwrap()).await.unwrap();
    dump(&mut connection).await;

    // Since the dump: a token, a namespace with an entry and a lock.
    let lost = fixture.token(&["admin"]).await;
    let lost_id = service.control().tokens(admin, 0, 1_000).await.unwrap().last().unwrap().id;
    fixture.namespace("quayside", "pilots", None).await;
    fixture.put("quayside/pilots", "p", "on board");
    fixture.put("quayside/berths", "b", "free");
    let (token, in_lost) = (lock(&fixture, "berths").await, lock(&fixture, "pilots").await);
    assert!(in_lost.token > token.token);

    restore(&mut connection).await;
    until("memory holds what the dump says", async || {
        service.control().token_caller(&lost).is_err()
            && service.control().namespaces(admin, &name("quayside")).unwrap().len() == 1
    })
    .await;
    // What is the same as before stays, entries included; what is made again is not what it was.
    let berths = fixture.opened("quayside/berths");
    let kept = berths.reader.read(&key("b"), ReadOptions::default()).await.unwrap();
    assert_eq!(kept.unwrap().entry.value, "free");
    until("changes are made again", async || {
        service.control().create_tenant(admin, "tideline").await.is_ok()
    })
    .await;
    fixture.namespace("quayside", "pilots", None).await;
    let pilots = fixture.opened("quayside/pilots");
    assert!(pilots.reader.read(&key("p"), ReadOptions::default()).await.unwrap().is_none());
    let again = lock(&fixture, "pilots").await;
    assert!(again.token > in_lost.token, "{again:?} after {in_lost:?}");
    let scopes = ["read:quayside".to_owned()];
    service
        .control()
        .create_token(admin, &verax_api::CreateToken::new(&scopes, "the latest token"))
        .await
        .unwrap();
    let new_id = service.control().tokens(admin, 0, 1_000).await.unwrap().last().unwrap().id;
    assert!(new_id > lost_id, "token {new_id} after {lost_id}");

    let snapshot = options.control.records_snapshot.clone().unwrap();
    until("the snapshot has the latest namespace and token", async || {
        let text = std::fs::read_to_string(&snapshot).unwrap_or_default();
        text.contains("pilots") && text.contains("the latest token")
    })
    .await;
    service.stop();
    restore(&mut connection).await;
    continues_above(&fixture, options, again.token, new_id).await;
    fixture.end().await;
}

/// Starts over records that were restored while Verax was away: the files of its data directory
/// know what the records have forgotten.
async fn continues_above(
    fixture: &Fixture,
    options: ServiceOptions,
    fence: FencingToken,
    token: u64,
) {
    let next = Service::start(fixture.records.clone(), options).await.unwrap();
    let (admin, request) = (&fixture.admin, lock_request());
    let berths = open(&next, admin, "quayside/berths").unwrap();
    let after = berths.locker.acquire_lock(&key("lock"), request).await.unwrap().granted().unwrap();
    assert!(after.token > fence, "{after:?} after {fence:?}");
    let created = next
        .control()
        .create_token(admin, &verax_api::CreateToken::new(&["admin".into()], ""))
        .await
        .unwrap();
    assert!(created.token.id > token);
    next.stop();
}

fn lock_request() -> LockRequest {
    let (lease, wait) = (Duration::from_secs(60), Duration::ZERO);
    LockRequest { owner: "a test".into(), lease, wait, session: None, access: None }
}

async fn lock(fixture: &Fixture, namespace: &str) -> Grant {
    let opened = fixture.opened(&format!("quayside/{namespace}"));
    opened.locker.acquire_lock(&key("lock"), lock_request()).await.unwrap().granted().unwrap()
}

fn permit_request(access: Option<LeasedBy>) -> PermitRequest {
    let (wait, lease) = (Duration::from_secs(50), Duration::from_secs(50));
    PermitRequest { owner: "desk".into(), wait, lease, stale: false, refresh: false, access }
}

#[tokio::test(flavor = "multi_thread")]
async fn revoked_access_ends_everything_it_granted() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    fixture.namespace("quayside", "berths", None).await;
    let secret = fixture.token(&["read:quayside", "write:quayside"]).await;
    let caller = service.control().token_caller(&secret).unwrap();
    let id = service.control().tokens(admin, 0, 1_000).await.unwrap().last().unwrap().id;
    let berths = open(service, &caller, "quayside/berths").unwrap();
    // It refills a key for which somebody else waits.
    let (permit, board) = (permit_request, key("board"));
    let outcome = berths.refiller.acquire_permit(&board, permit(caller.access())).await.unwrap();
    let PermitOutcome::Permit(held) = outcome else { panic!("{outcome:?}") };
    let next_refiller = tokio::spawn({
        let (berths, request) = (berths.clone(), permit(None));
        async move { berths.refiller.acquire_permit(&key("board"), request).await.unwrap() }
    });
    until("somebody waits for the value", async || {
        berths.reader.permits(9).iter().any(|permit| permit.waiting == 1)
    })
    .await;
    let request = LockRequest { access: caller.access(), ..lock_request() };
    berths.locker.acquire_lock(&key("lock"), request.clone()).await.unwrap().granted().unwrap();
    // Somebody else waits for the lock that the token holds, and the token waits for another one.
    let next = tokio::spawn({
        let berths = berths.clone();
        let request = LockRequest { wait: Duration::from_secs(50), ..lock_request() };
        async move { berths.locker.acquire_lock(&key("lock"), request).await.unwrap() }
    });
    berths.locker.acquire_lock(&key("other"), lock_request()).await.unwrap().granted().unwrap();
    let waits = tokio::spawn({
        let berths = berths.clone();
        let request = LockRequest { wait: Duration::from_secs(50), ..request };
        async move { berths.locker.acquire_lock(&key("other"), request).await }
    });
    until("both are queued", async || {
        service.engine().lock_counts() == LockCounts { held: 2, queued: 2 }
    })
    .await;
    let link = service.control().sign_in_link(&caller).unwrap();
    let (session, _) =
        service.control().start_session(&CreateSession::Token(secret.clone())).unwrap();

    service.control().revoke_token(admin, id).await.unwrap();
    caller.signal().ended().await;
    next.await.unwrap().granted().unwrap();
    let turn = next_refiller.await.unwrap();
    assert!(matches!(turn, PermitOutcome::Permit(_)), "{turn:?}");
    let late = berths.writer.store_with_permit(&key("board"), held.number, value("late"));
    assert!(matches!(late, Err(EngineError::Permit(_))), "{late:?}");
    assert!(waits.await.unwrap().is_err(), "it is no longer queued");
    let ended = caller.needs(Scope::Admin);
    assert!(matches!(ended, Err(ControlError::Engine(EngineError::AccessEnded))), "{ended:?}");
    // A request in transit is refused as well.
    let late = LockRequest { access: caller.access(), ..lock_request() };
    let late = berths.locker.acquire_lock(&key("third"), late).await;
    assert!(matches!(late, Err(EngineError::AccessEnded)), "{late:?}");
    assert!(berths.reader.peek_lock(&key("third")).is_none());
    let late = berths.refiller.acquire_permit(&key("third"), permit(caller.access())).await;
    assert!(matches!(late, Err(EngineError::AccessEnded)), "{late:?}");
    assert!(berths.reader.permits(9).iter().all(|permit| permit.key != key("third")));
    assert!(
        service.control().sign_in_link(&caller).is_err()
            && service.control().session_caller(&session).is_err()
    );
    let code = link.path.strip_prefix("/sign-in#").unwrap().to_owned();
    assert!(service.control().start_session(&CreateSession::Code(code)).is_err());

    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recreated_tenant_is_opened_by_no_old_token() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    fixture.namespace("quayside", "berths", None).await;
    let old = fixture.token(&["read:quayside", "read:tideline"]);
    service.control().create_tenant(admin, "tideline").await.unwrap();
    let old = old.await;
    let before = service.control().token_caller(&old).unwrap();
    service.control().delete_namespace(admin, &name("quayside"), &name("berths")).await.unwrap();
    service.control().delete_tenant(admin, &name("quayside")).await.unwrap();
    fixture.namespace("quayside", "berths", None).await;
    assert!(before.signal().has_ended());
    let after = service.control().token_caller(&old).unwrap();
    let opened = open(service, &after, "quayside/berths");
    assert!(matches!(opened, Err(ControlError::MissingScope(_))), "{opened:?}");
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn query_origins_do_not_use_the_connections_of_records() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.control().create_tenant(admin, "tideline").await.unwrap();
    let tideline = name("tideline");
    let query = SqlChange {
        query: Some("SELECT :level AS level, CONNECTION_ID() AS session".into()),
        result: Some("row".into()),
        ..Default::default()
    };
    let origin = |port, query: &SqlChange| CreateOrigin {
        name: "levels".into(),
        url: format!("mysql://reader@localhost:{port}/verax"),
        sql: Some(query.clone()),
        ..Default::default()
    };
    // The records' own server, by another name.
    let refused =
        service.control().create_origin(admin, &tideline, &origin(fixture.port(), &query)).await;
    assert!(refused.unwrap_err().to_string().contains("Verax's own records"));
    let directory = tempfile::tempdir().unwrap();
    let elsewhere = verax_records::launcher::PrivateServer::start(directory.path()).await.unwrap();
    let mut database = AsyncMysqlConnection::establish(&elsewhere.url("verax")).await.unwrap();
    database
        .batch_execute(
            "CREATE USER reader@'127.0.0.1'; GRANT SELECT ON verax.* TO reader@'127.0.0.1'",
        )
        .await
        .unwrap();
    let port = elsewhere.port().unwrap();
    for statement in ["SELECT 1 INTO @x", "SELECT 1; SELECT 2", "SELECT @@version"] {
        let spoilt = SqlChange { query: Some(statement.into()), ..query.clone() };
        let refused =
            service.control().create_origin(admin, &tideline, &origin(port, &spoilt)).await;
        assert!(matches!(refused, Err(ControlError::Invalid(_))), "{statement}: {refused:?}");
    }
    service.control().create_origin(admin, &tideline, &origin(port, &query)).await.unwrap();
    let policy = PolicyChange {
        origin: Some(Some(OriginChoice {
            name: "levels".into(),
            key_pattern: Some("level/{level}".into()),
        })),
        ..Default::default()
    };
    service.control().create_namespace(admin, &tideline, "levels", &policy).await.unwrap();
    let levels = fixture.opened("tideline/levels");
    let mut sessions = std::collections::HashSet::new();
    for round in 0..100 {
        let mut reads = JoinSet::new();
        for n in 0..4 {
            let levels = levels.clone();
            let key = key(&format!("level/{round}-{n}"));
            reads.spawn(async move {
                let read = levels.reader.read(&key, ReadOptions::default()).await;
                let entry = read.unwrap().unwrap().entry;
                serde_json::from_slice::<serde_json::Value>(&entry.value).unwrap()["session"]
                    .clone()
            });
        }
        while let Some(session) = reads.join_next().await {
            sessions.insert(session.unwrap().to_string());
        }
    }
    assert!(sessions.len() <= 40, "400 reads made {} connections", sessions.len());
    elsewhere.stop().await.unwrap();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn managers_see_no_origin_addresses_and_bind_shared_origins_only() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    let ferrydesk = name("ferrydesk");
    fixture.namespace("ferrydesk", "boards", Some("http://10.1.2.3:9/secret-path")).await;
    fixture.namespace("ferrydesk", "fares", None).await;
    let scope = |namespace: Option<&str>| match namespace {
        None => Scope::tenant(Right::Manage, &ferrydesk),
        Some(namespace) => Scope::within(Right::Manage, &ferrydesk, &name(namespace)),
    };
    let manager = Caller::service("a manager", vec![scope(None)]);
    let shown = service.control().origins(&manager, &ferrydesk).unwrap();
    let text = serde_json::to_string(&shown).unwrap();
    assert!(!text.contains("10.1.2.3") && !text.contains("secret-path"), "{text}");
    assert!(
        serde_json::to_string(&service.control().origins(admin, &ferrydesk).unwrap())
            .unwrap()
            .contains("10.1.2.3")
    );

    let of_fares = Caller::service("a manager of fares", vec![scope(Some("fares"))]);
    let bind = PolicyChange {
        origin: Some(Some(OriginChoice { name: "desk".into(), key_pattern: None })),
        ..Default::default()
    };
    let fares = name("fares");
    let refused = service
        .control()
        .change_namespace(&of_fares, &ferrydesk, &fares, &bind, Expected::Any)
        .await;
    assert_eq!(refused.unwrap_err().to_string(), "there is no origin ferrydesk/desk");
    let open =
        verax_api::OriginChange { open_to: Some(vec!["fares".into()]), ..Default::default() };
    service
        .control()
        .change_origin(admin, &ferrydesk, &name("desk"), &open, Expected::Any)
        .await
        .unwrap();
    service
        .control()
        .change_namespace(&of_fares, &ferrydesk, &fares, &bind, Expected::Any)
        .await
        .unwrap();
    // Once bound, the rest of the policy is theirs whatever the origin is opened to later.
    let close = verax_api::OriginChange { open_to: Some(Vec::new()), ..Default::default() };
    service
        .control()
        .change_origin(admin, &ferrydesk, &name("desk"), &close, Expected::Any)
        .await
        .unwrap();
    let change = PolicyChange { max_age_seconds: Some(5.0), ..Default::default() };
    service
        .control()
        .change_namespace(&of_fares, &ferrydesk, &fares, &change, Expected::Any)
        .await
        .unwrap();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn reserve_sums_are_checked_within_the_change() {
    let options = ServiceOptions {
        engine: EngineOptions { memory_limit: 64 << 20, ..Default::default() },
        ..Default::default()
    };
    let fixture = Fixture::start(options).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.control().create_tenant(admin, "tideline").await.unwrap();
    let mut creations = JoinSet::new();
    for n in 0..8 {
        let (service, admin) = (Arc::clone(service), admin.clone());
        creations.spawn(async move {
            let policy = PolicyChange { reserve_bytes: Some(20 << 20), ..Default::default() };
            service
                .control()
                .create_namespace(&admin, &name("tideline"), &format!("n{n}"), &policy)
                .await
        });
    }
    let mut created = 0;
    while let Some(creation) = creations.join_next().await {
        created += u32::from(creation.unwrap().is_ok());
    }
    assert_eq!(created, 3, "three reserves of 20 MiB fit into 64");
    fixture.end().await;
}

/// Each of two callers changes another part of a policy at the same time: both are there
/// afterwards.
#[tokio::test(flavor = "multi_thread")]
async fn concurrent_policy_changes_are_applied_or_refused() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (control, admin) = (fixture.service.control(), &fixture.admin);
    fixture.namespace("quayside", "berths", None).await;
    let (tenant, name) = (name("quayside"), name("berths"));
    let change = async |change: PolicyChange, expected: Expected| {
        control.change_namespace(admin, &tenant, &name, &change, expected).await
    };
    for round in 1..=30 {
        let age = PolicyChange { max_age_seconds: Some(f64::from(round)), ..Default::default() };
        let jitter = PolicyChange { jitter_percent: Some(round as u8), ..Default::default() };
        let (one, other) = tokio::join!(change(age, Expected::Any), change(jitter, Expected::Any));
        one.unwrap();
        other.unwrap();
        let policy = control.namespace(admin, &tenant, &name).unwrap().policy;
        assert_eq!(
            (policy.max_age_seconds, policy.jitter_percent),
            (f64::from(round), round as u8)
        );
    }
    // Whoever relies on what was there changes nothing if that is over.
    let before = policy_tag(&control.namespace(admin, &tenant, &name).unwrap().policy);
    let expected = || Expected::OneOf(vec![before]);
    let age = |seconds| PolicyChange { max_age_seconds: Some(seconds), ..Default::default() };
    let changed = change(age(77.0), expected()).await.unwrap();
    let late = change(age(88.0), expected()).await;
    assert_eq!(late, Err(ControlError::NotExpected("policy")));
    assert_eq!(control.namespace(admin, &tenant, &name).unwrap().policy, changed.policy);
    fixture.end().await;
}
