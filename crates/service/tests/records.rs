//! Changes and their taking effect: whatever becomes of callers, of MariaDB and of the records in
//! it.

#![allow(clippy::unwrap_used)]

mod fixture;

use std::sync::Arc;
use std::time::{Duration, Instant};

use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use fixture::{Fixture, key, name, until, value};
use futures_util::FutureExt;
use nix::sys::signal::{Signal, kill};
use tokio::task::JoinSet;
use verax_api::{CreateOrigin, CreateSession, OriginChoice, PolicyChange, SqlChange};
use verax_core::guard::lock::Grant;
use verax_service::access::{Caller, Right, Scope};
use verax_service::cache::{Asked, PermitRequest, ReadOptions};
use verax_service::locks::LockRequest;
use verax_service::{Service, ServiceError, ServiceOptions};

/// Starts a call and leaves before its answer.
async fn leave<R>(call: impl Future<Output = R>) {
    let mut call = Box::pin(call);
    assert!((&mut call).now_or_never().is_none(), "it was answered already");
    tokio::task::yield_now().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_callers_began_is_finished_without_them() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.create_tenant(admin, "tideline").await.unwrap();
    let tideline = name("tideline");
    let mut tokens = Vec::new();
    for n in 0..20 {
        let scopes = ["read:tideline".to_owned()];
        tokens.push(service.create_token(admin, &scopes, "").await.unwrap());
        let policy = PolicyChange::default();
        service.create_namespace(admin, &tideline, &format!("old-{n}"), &policy).await.unwrap();
    }
    for (n, token) in tokens.iter().enumerate() {
        leave(service.revoke_token(admin, token.token.id)).await;
        let (new, old) = (format!("new-{n}"), name(&format!("old-{n}")));
        leave(service.create_namespace(admin, &tideline, &new, &PolicyChange::default())).await;
        leave(service.delete_namespace(admin, &tideline, &old)).await;
    }
    until("every revocation has taken effect", async || {
        tokens.iter().all(|token| service.token_caller(&token.secret).is_err())
    })
    .await;
    let served = || -> Vec<String> {
        let namespaces = service.namespaces(admin, &tideline).unwrap();
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
async fn memory_follows_what_was_answered_too_late() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.create_tenant(admin, "tideline").await.unwrap();
    let secret = fixture.token(&["read:tideline"]).await;
    let id = service.tokens(admin).await.unwrap().last().unwrap().id;
    for stop_ms in [300, 3_000, 12_000] {
        let (mariadb, tenant) = (fixture.mariadb(), format!("after-{stop_ms}"));
        kill(mariadb, Signal::SIGSTOP).unwrap();
        let began = Instant::now();
        let created = tokio::spawn({
            let (service, admin, tenant) = (Arc::clone(service), admin.clone(), tenant.clone());
            async move { service.create_tenant(&admin, &tenant).await.is_ok() }
        });
        tokio::time::sleep(Duration::from_millis(stop_ms)).await;
        kill(mariadb, Signal::SIGCONT).unwrap();
        let acknowledged = created.await.unwrap();
        assert!(began.elapsed() < Duration::from_secs(30));
        until("the records are back", async || service.records_available()).await;
        until("memory holds what the records hold", async || {
            let recorded = fixture.records.tenants().await.unwrap();
            let recorded = recorded.iter().any(|record| record.name.as_str() == tenant);
            let served = service.tenants(admin).iter().any(|served| served.name == tenant);
            recorded == served && (recorded || !acknowledged)
        })
        .await;
    }
    // A revocation whose answer was lost is a revocation all the same, if it was made.
    let mariadb = fixture.mariadb();
    kill(mariadb, Signal::SIGSTOP).unwrap();
    let revoked = service.revoke_token(admin, id);
    let _ = tokio::time::timeout(Duration::from_millis(200), revoked).await;
    kill(mariadb, Signal::SIGCONT).unwrap();
    until("memory knows whether the token was revoked", async || {
        let tokens = fixture.records.tokens().await.unwrap();
        let open = tokens.iter().any(|token| token.id == id && token.revoked_at.is_none());
        service.records_available() && service.token_caller(&secret).is_ok() == open
    })
    .await;
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dump_that_is_restored_is_noticed() {
    let directory = tempfile::tempdir().unwrap();
    let options = ServiceOptions {
        records_snapshot: Some(directory.path().join("records.snapshot")),
        epoch_file: Some(directory.path().join("lock.epoch")),
        ..Default::default()
    };
    let fixture = Fixture::start(options.clone()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    fixture.namespace("quayside", "berths", None).await;
    let mut connection = AsyncMysqlConnection::establish(fixture.records.url()).await.unwrap();
    let tables = [
        "tenants",
        "origins",
        "namespaces",
        "tokens",
        "activity",
        "runs",
        "lock_epochs",
        "revisions",
    ];
    let mut dump = String::from("CREATE DATABASE dump;");
    for table in tables {
        dump += &format!("CREATE TABLE dump.{table} AS SELECT * FROM {table};");
    }
    connection.batch_execute(&dump).await.unwrap();

    // Since the dump: a token, a namespace with an entry and a lock.
    let lost = fixture.token(&["admin"]).await;
    let lost_id = service.tokens(admin).await.unwrap().last().unwrap().id;
    fixture.namespace("quayside", "pilots", None).await;
    fixture.put("quayside/pilots", "p", "on board");
    fixture.put("quayside/berths", "b", "free");
    let (token, in_lost) = (lock(&fixture, "berths").await, lock(&fixture, "pilots").await);
    assert!(in_lost.token > token.token);

    let mut restore = String::from("SET foreign_key_checks = 0;");
    for table in tables {
        restore += &format!("TRUNCATE {table}; INSERT INTO {table} SELECT * FROM dump.{table};");
    }
    connection.batch_execute(&restore).await.unwrap();
    until("memory holds what the dump says", async || {
        service.token_caller(&lost).is_err()
            && service.namespaces(admin, &name("quayside")).unwrap().len() == 1
    })
    .await;
    // What is the same as before stays, entries included; what is made again is not what it was.
    let berths = service.open(admin, Right::Read, &name("quayside"), &name("berths")).unwrap();
    let kept = service.read(&berths, &key("b"), ReadOptions::default()).await.unwrap();
    assert_eq!(kept.unwrap().entry.value, "free");
    until("changes are made again", async || {
        service.create_tenant(admin, "tideline").await.is_ok()
    })
    .await;
    fixture.namespace("quayside", "pilots", None).await;
    let pilots = service.open(admin, Right::Read, &name("quayside"), &name("pilots")).unwrap();
    assert!(service.read(&pilots, &key("p"), ReadOptions::default()).await.unwrap().is_none());
    let again = lock(&fixture, "pilots").await;
    assert!(again.token > in_lost.token, "{again:?} after {in_lost:?}");
    fixture.token(&["read:quayside"]).await;
    let new_id = service.tokens(admin).await.unwrap().last().unwrap().id;
    assert!(new_id > lost_id, "token {new_id} after {lost_id}");

    // The same while Verax is away: the files of its data directory know what the records have
    // forgotten.
    until("the snapshot is written", async || {
        let text = std::fs::read_to_string(options.records_snapshot.as_ref().unwrap());
        text.unwrap().contains("pilots")
    })
    .await;
    service.stop();
    connection.batch_execute(&restore).await.unwrap();
    let next = Service::start(fixture.records.clone(), options).await.unwrap();
    let request = lock_request();
    let berths = next.open(admin, Right::Write, &name("quayside"), &name("berths")).unwrap();
    let after = next.acquire_lock(&berths, &key("lock"), request).await.unwrap().unwrap();
    assert!(after.token > again.token, "{after:?} after {again:?}");
    let created = next.create_token(admin, &["admin".into()], "").await.unwrap();
    assert!(created.token.id > new_id);
    next.stop();
    fixture.end().await;
}

fn lock_request() -> LockRequest {
    let (hold, wait) = (Duration::from_secs(60), Duration::ZERO);
    LockRequest { owner: "a test".into(), hold, wait, session: None, access: None }
}

async fn lock(fixture: &Fixture, namespace: &str) -> Grant {
    let (service, admin) = (&fixture.service, &fixture.admin);
    let (tenant, namespace) = (name("quayside"), name(namespace));
    let opened = service.open(admin, Right::Write, &tenant, &namespace).unwrap();
    service.acquire_lock(&opened, &key("lock"), lock_request()).await.unwrap().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn access_that_is_withdrawn_takes_everything_along() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    fixture.namespace("quayside", "berths", None).await;
    let secret = fixture.token(&["read:quayside", "write:quayside"]).await;
    let caller = service.token_caller(&secret).unwrap();
    let id = service.tokens(admin).await.unwrap().last().unwrap().id;
    let berths = service.open(&caller, Right::Write, &name("quayside"), &name("berths")).unwrap();
    // It refills a key for which somebody else waits.
    let permit = |access| PermitRequest {
        owner: "desk".into(),
        wait: Duration::from_secs(50),
        hold: Duration::from_secs(50),
        stale: false,
        refresh: false,
        access,
    };
    let asked = service.ask(&berths, &key("board"), permit(caller.access())).await.unwrap();
    let Asked::Permit(held) = asked else { panic!("{asked:?}") };
    let next_refiller = tokio::spawn({
        let (service, berths, request) = (Arc::clone(service), Arc::clone(&berths), permit(None));
        async move { service.ask(&berths, &key("board"), request).await.unwrap() }
    });
    until("somebody waits for the value", async || {
        service.permits(&berths).iter().any(|permit| permit.waiting == 1)
    })
    .await;
    let request = LockRequest { access: caller.access(), ..lock_request() };
    service.acquire_lock(&berths, &key("lock"), request.clone()).await.unwrap().unwrap();
    // Somebody else waits for the lock that the token holds, and the token waits for another one.
    let next = tokio::spawn({
        let (service, berths) = (Arc::clone(service), Arc::clone(&berths));
        let request = LockRequest { wait: Duration::from_secs(50), ..lock_request() };
        async move { service.acquire_lock(&berths, &key("lock"), request).await.unwrap() }
    });
    service.acquire_lock(&berths, &key("other"), lock_request()).await.unwrap().unwrap();
    let waits = tokio::spawn({
        let (service, berths) = (Arc::clone(service), Arc::clone(&berths));
        let request = LockRequest { wait: Duration::from_secs(50), ..request };
        async move { service.acquire_lock(&berths, &key("other"), request).await }
    });
    until("both are in line", async || service.lock_counts() == (2, 2)).await;
    let link = service.sign_in_link(&caller).unwrap();
    let (session, _) = service.start_session(&CreateSession::Token(secret.clone())).unwrap();

    service.revoke_token(admin, id).await.unwrap();
    caller.signal().ended().await;
    next.await.unwrap().unwrap();
    let turn = next_refiller.await.unwrap();
    assert!(matches!(turn, Asked::Permit(_)), "{turn:?}");
    let late = service.store_with_permit(&berths, &key("board"), held.number, value("late"));
    assert!(matches!(late, Err(ServiceError::Permit(_))), "{late:?}");
    assert!(waits.await.unwrap().is_err(), "it is no longer in line");
    assert!(matches!(caller.needs(Scope::Admin), Err(ServiceError::NotSignedIn(_))));
    // Neither does a claim that is on its way get anything any more.
    let late = LockRequest { access: caller.access(), ..lock_request() };
    let late = service.acquire_lock(&berths, &key("third"), late).await;
    assert!(matches!(late, Err(ServiceError::NotSignedIn(_))), "{late:?}");
    assert!(service.look_at_lock(&berths, &key("third")).is_none());
    let late = service.ask(&berths, &key("third"), permit(caller.access())).await;
    assert!(matches!(late, Err(ServiceError::NotSignedIn(_))), "{late:?}");
    assert!(service.permits(&berths).iter().all(|permit| permit.key != key("third")));
    assert!(service.sign_in_link(&caller).is_err() && service.session_caller(&session).is_err());
    let code = link.path.strip_prefix("/sign-in#").unwrap().to_owned();
    assert!(service.start_session(&CreateSession::Code(code)).is_err());

    // A tenant that is made again under an old name is opened by no old token.
    let old = fixture.token(&["read:quayside", "read:tideline"]);
    service.create_tenant(admin, "tideline").await.unwrap();
    let old = old.await;
    let before = service.token_caller(&old).unwrap();
    service.delete_namespace(admin, &name("quayside"), &name("berths")).await.unwrap();
    service.delete_tenant(admin, &name("quayside")).await.unwrap();
    fixture.namespace("quayside", "berths", None).await;
    assert!(before.signal().has_ended());
    let after = service.token_caller(&old).unwrap();
    let opened = service.open(&after, Right::Read, &name("quayside"), &name("berths"));
    assert!(matches!(opened, Err(ServiceError::MissingScope(_))), "{opened:?}");
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn queries_keep_their_connections_and_leave_the_records_alone() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.create_tenant(admin, "tideline").await.unwrap();
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
    let refused = service.create_origin(admin, &tideline, &origin(fixture.port(), &query)).await;
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
        let refused = service.create_origin(admin, &tideline, &origin(port, &spoilt)).await;
        assert!(matches!(refused, Err(ServiceError::Invalid(_))), "{statement}: {refused:?}");
    }
    service.create_origin(admin, &tideline, &origin(port, &query)).await.unwrap();
    let policy = PolicyChange {
        origin: Some(Some(OriginChoice {
            name: "levels".into(),
            key_pattern: Some("level/{level}".into()),
        })),
        ..Default::default()
    };
    service.create_namespace(admin, &tideline, "levels", &policy).await.unwrap();
    let levels = service.open(admin, Right::Read, &tideline, &name("levels")).unwrap();
    let mut sessions = std::collections::HashSet::new();
    for round in 0..100 {
        let mut reads = JoinSet::new();
        for n in 0..4 {
            let (service, levels) = (Arc::clone(service), Arc::clone(&levels));
            let key = key(&format!("level/{round}-{n}"));
            reads.spawn(async move {
                let read = service.read(&levels, &key, ReadOptions::default()).await;
                let entry = read.unwrap().unwrap().entry;
                serde_json::from_slice::<serde_json::Value>(&entry.value).unwrap()["session"]
                    .clone()
            });
        }
        while let Some(session) = reads.join_next().await {
            sessions.insert(session.unwrap().to_string());
        }
    }
    assert!(sessions.len() <= 12, "400 reads made {} connections", sessions.len());
    elsewhere.stop().await.unwrap();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn managers_see_no_addresses_and_bind_to_what_is_opened_to_them() {
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
    let shown = service.origins(&manager, &ferrydesk).unwrap();
    let text = serde_json::to_string(&shown).unwrap();
    assert!(!text.contains("10.1.2.3") && !text.contains("secret-path"), "{text}");
    assert!(
        serde_json::to_string(&service.origins(admin, &ferrydesk).unwrap())
            .unwrap()
            .contains("10.1.2.3")
    );

    let of_fares = Caller::service("a manager of fares", vec![scope(Some("fares"))]);
    let bind = PolicyChange {
        origin: Some(Some(OriginChoice { name: "desk".into(), key_pattern: None })),
        ..Default::default()
    };
    let fares = name("fares");
    let refused = service.change_namespace(&of_fares, &ferrydesk, &fares, &bind).await;
    assert_eq!(refused.unwrap_err().to_string(), "there is no origin ferrydesk/desk");
    let open =
        verax_api::OriginChange { open_to: Some(vec!["fares".into()]), ..Default::default() };
    service.change_origin(admin, &ferrydesk, &name("desk"), &open).await.unwrap();
    service.change_namespace(&of_fares, &ferrydesk, &fares, &bind).await.unwrap();
    // Once bound, the rest of the policy is theirs whatever the origin is opened to later.
    let close = verax_api::OriginChange { open_to: Some(Vec::new()), ..Default::default() };
    service.change_origin(admin, &ferrydesk, &name("desk"), &close).await.unwrap();
    let change = PolicyChange { max_age_seconds: Some(5.0), ..Default::default() };
    service.change_namespace(&of_fares, &ferrydesk, &fares, &change).await.unwrap();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn sums_are_checked_where_changes_are_made() {
    let options = ServiceOptions { memory_limit: 64 << 20, ..Default::default() };
    let fixture = Fixture::start(options).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.create_tenant(admin, "tideline").await.unwrap();
    let mut creations = JoinSet::new();
    for n in 0..8 {
        let (service, admin) = (Arc::clone(service), admin.clone());
        creations.spawn(async move {
            let policy = PolicyChange { reserve_bytes: Some(20 << 20), ..Default::default() };
            service.create_namespace(&admin, &name("tideline"), &format!("n{n}"), &policy).await
        });
    }
    let mut created = 0;
    while let Some(creation) = creations.join_next().await {
        created += u32::from(creation.unwrap().is_ok());
    }
    assert_eq!(created, 3, "three reserves of 20 MiB fit into 64");
    fixture.end().await;
}
