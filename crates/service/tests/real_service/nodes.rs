//! Two Verax over the same records: one is active, the other stands by and takes over; never do
//! both give locks or make changes.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use crate::fixture::{Fixture, Opened, in_control, key, name, node, open, until, value};
use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use nix::sys::signal::{Signal, kill};
use tokio::time::Instant;
use verax_control::access::Caller;
use verax_control::{ControlError, ControlOptions, Node, Role};
use verax_core::guard::lock::Grant;
use verax_engine::EngineError;
use verax_engine::locks::LockRequest;
use verax_records::{LEASE_VALIDITY, NodeState, Records, RecordsError};
use verax_service::Service;

async fn pair() -> (Fixture, Arc<Service>) {
    let options = in_control(ControlOptions { node: Some(node("first")), ..Default::default() });
    let fixture = Fixture::start(options).await;
    fixture.namespace("quayside", "berths", None).await;
    let standby = fixture.another(node("second")).await;
    assert_eq!(
        (fixture.service.control().role(), standby.control().role()),
        (Role::Active, Role::Standby)
    );
    (fixture, standby)
}

/// The active one knows that it may be replaced.
async fn is_known(fixture: &Fixture) {
    until("the active one knows of the standby", async || {
        fixture.service.control().topology().count(NodeState::Standby) == 1
            && fixture.records.topology().await.unwrap().confirmations > 2
    })
    .await;
}

fn berths(fixture: &Fixture, service: &Service) -> Result<Opened, ControlError> {
    open(service, &fixture.admin, "quayside/berths")
}

async fn lock(fixture: &Fixture, service: &Arc<Service>, k: &str) -> Result<Grant, ControlError> {
    lock_as(&fixture.admin, service, k).await
}

async fn lock_as(caller: &Caller, service: &Arc<Service>, k: &str) -> Result<Grant, ControlError> {
    let request = LockRequest {
        owner: "pilot".into(),
        lease: Duration::from_secs(60),
        wait: Duration::ZERO,
        session: None,
        access: None,
    };
    let berths = open(service, caller, "quayside/berths")?;
    Ok(berths.locker.acquire_lock(&key(k), request).await?.granted().unwrap())
}

#[derive(diesel::QueryableByName)]
struct Session {
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::BigInt>)]
    id: Option<i64>,
}

/// The session that has the lease.
async fn lease(connection: &mut AsyncMysqlConnection) -> Option<i64> {
    let ask = "SELECT IS_USED_LOCK(CONCAT('verax.share.0.', DATABASE())) AS id";
    let ask = diesel::sql_query(ask);
    diesel_async::RunQueryDsl::get_result::<Session>(ask, connection).await.unwrap().id
}

async fn connect(fixture: &Fixture) -> AsyncMysqlConnection {
    AsyncMysqlConnection::establish(fixture.records.url().unwrap()).await.unwrap()
}

/// Ends the session that has the lease, as a broken connection does.
async fn cut_lease(fixture: &Fixture) {
    let mut connection = connect(fixture).await;
    let session = lease(&mut connection).await.unwrap();
    connection.batch_execute(&format!("KILL {session}")).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_standby_follows_refuses_and_takes_over_from_an_orderly_stop_without_delay() {
    let (fixture, standby) = pair().await;
    let (active, admin) = (&fixture.service, &fixture.admin);
    // What it follows.
    let secret = fixture.token(&["read:quayside"]).await;
    until("a token opens there too", async || standby.control().token_caller(&secret).is_ok())
        .await;
    let id = active.control().tokens(admin, 0, 1_000).await.unwrap().last().unwrap().id;
    active.control().revoke_token(admin, id).await.unwrap();
    until("it is revoked there too", async || standby.control().token_caller(&secret).is_err())
        .await;
    // What it refuses: nothing is changed or given.
    assert_eq!(
        standby.control().create_tenant(admin, "late").await,
        Err(ControlError::Engine(EngineError::Standby))
    );
    assert_eq!(berths(&fixture, &standby).unwrap_err(), ControlError::Engine(EngineError::Standby));
    assert_eq!(
        lock(&fixture, &standby, "a").await,
        Err(ControlError::Engine(EngineError::Standby))
    );
    let ready = standby.ready();
    assert_eq!((ready.ready, ready.role.as_str()), (false, "standby"));
    let topology = standby.control().topology();
    assert_eq!(topology.active().unwrap().http, "http://first");

    let before = lock(&fixture, active, "a").await.unwrap();
    let until_end = active.stopping();
    active.stop();
    active.control().leave().await;
    assert!(*until_end.borrow());
    let left = Instant::now();
    until("the standby is active", async || standby.control().role() == Role::Active).await;
    // No confirmation has to run out.
    assert!(left.elapsed() < LEASE_VALIDITY, "{:?}", left.elapsed());
    let after = lock(&fixture, &standby, "a").await.unwrap();
    assert!(after.token > before.token);
    standby.control().create_tenant(admin, "later").await.unwrap();
    assert_eq!(standby.control().topology().nodes.len(), 1, "the first one has left");
    standby.stop();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn two_nodes_never_both_grant_locks_when_the_lease_is_lost() {
    let (fixture, standby) = pair().await;
    is_known(&fixture).await;
    let active = Arc::clone(&fixture.service);
    let berths_before = berths(&fixture, &active).unwrap();
    berths_before.writer.put(&key("k"), value("before"), None).await.unwrap();
    // Asks both all the time, and notes when each was asked for a lock that it gave.
    let asker = |service: Arc<Service>| {
        let given: Arc<Mutex<Vec<(Instant, Instant, Grant)>>> = Arc::default();
        let (admin, noted) = (fixture.admin.clone(), Arc::clone(&given));
        let asking = tokio::spawn(async move {
            for n in 0.. {
                tokio::time::sleep(Duration::from_millis(1)).await;
                let asked = Instant::now();
                if let Ok(grant) = lock_as(&admin, &service, &format!("{n}")).await {
                    noted.lock().unwrap().push((asked, Instant::now(), grant));
                }
            }
        });
        (given, asking)
    };
    let (of_first, first_asking) = asker(Arc::clone(&active));
    let (of_second, second_asking) = asker(Arc::clone(&standby));
    until("the first gives locks", async || of_first.lock().unwrap().len() > 10).await;
    cut_lease(&fixture).await;
    until("the second gives locks", async || of_second.lock().unwrap().len() > 10).await;
    until("the first stands by", async || active.control().role() == Role::Standby).await;
    first_asking.abort();
    second_asking.abort();
    let (first, second) = (of_first.lock().unwrap().clone(), of_second.lock().unwrap().clone());
    // Whoever was asked last by the first was asked before anybody was answered by the second.
    let last = first.iter().map(|(asked, ..)| *asked).max().unwrap();
    let begun = second.iter().map(|(_, answered, _)| *answered).min().unwrap();
    assert!(last < begun, "both gave locks for {:?}", last - begun);
    let largest = first.iter().map(|(.., grant)| grant.token).max().unwrap();
    assert!(second.iter().all(|(.., grant)| grant.token > largest));
    // What was stored in the first is gone there: the other may have invalidated it.
    assert_eq!(
        active.control().readings().iter().map(|(_, _, usage)| usage.entries).sum::<u64>(),
        0
    );
    active.stop();
    standby.stop();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_without_the_lease_changes_nothing() {
    let options = in_control(ControlOptions { node: Some(node("first")), ..Default::default() });
    let fixture = Fixture::start(options).await;
    let (service, admin) = (&fixture.service, &fixture.admin);
    service.control().create_tenant(admin, "before").await.unwrap();
    // Another takes over between two looks of the first at its lease.
    let records = Records::later(fixture.records.url().unwrap());
    let second = node("second");
    let mut membership = records.join(second.id).await.unwrap();
    records.register(&second, verax_core::Timestamp::default()).await.unwrap();
    cut_lease(&fixture).await;
    assert!(membership.acquire_lease(Duration::from_secs(5)).await.unwrap());
    membership.begin_epoch(0, verax_core::Timestamp::default()).await.unwrap();
    let refused = service.control().create_tenant(admin, "after").await.unwrap_err();
    assert!(
        matches!(
            refused,
            ControlError::Engine(EngineError::Standby) | ControlError::RecordsUnavailable(_)
        ),
        "{refused}"
    );
    let tenants = fixture.records.tenants().await.unwrap();
    assert_eq!(tenants.len(), 1, "{tenants:?}");
    until("the first stands by", async || service.control().role() == Role::Standby).await;
    // And the other way around, when the second one's lease has gone without its knowing.
    drop(membership);
    until("the first is active again", async || service.control().role() == Role::Active).await;
    service.control().create_tenant(admin, "again").await.unwrap();
    let actor = verax_records::Actor::new("the second");
    let late = records.create_tenant(&name("late"), &actor, verax_core::Timestamp::default()).await;
    assert_eq!(late, Err(RecordsError::NotOwner));
    fixture.end().await;
}

/// Promise 4 goes before 7 where a standby may take over, and 7 holds where there is none.
#[tokio::test(flavor = "multi_thread")]
async fn without_mariadb_locks_continue_alone_and_end_beside_a_standby() {
    let options = in_control(ControlOptions { node: Some(node("first")), ..Default::default() });
    let fixture = Fixture::start(options).await;
    let active = Arc::clone(&fixture.service);
    fixture.namespace("quayside", "berths", None).await;
    let mariadb = fixture.mariadb();
    kill(mariadb, Signal::SIGSTOP).unwrap();
    let stopped = Instant::now();
    while stopped.elapsed() < LEASE_VALIDITY + Duration::from_secs(2) {
        lock(&fixture, &active, &format!("alone-{:?}", stopped.elapsed())).await.unwrap();
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    kill(mariadb, Signal::SIGCONT).unwrap();

    let mut connection = connect(&fixture).await;
    until("it has the lease again", async || lease(&mut connection).await.is_some()).await;
    let standby = fixture.another(node("second")).await;
    is_known(&fixture).await;
    let held = lock(&fixture, &active, "held").await.unwrap();
    fixture.put("quayside/berths", "k", "served");
    kill(mariadb, Signal::SIGSTOP).unwrap();
    let mut asked = 0;
    until("locks are refused", async || {
        asked += 1;
        lock(&fixture, &active, &format!("beside-{asked}")).await.is_err()
    })
    .await;
    let berths = berths(&fixture, &active).unwrap();
    let renewed = berths.locker.renew_lock(&key("held"), held.token, Duration::from_secs(9));
    assert!(matches!(renewed, Err(EngineError::Unconfirmed(_))), "{renewed:?}");
    assert!(active.control().create_tenant(&fixture.admin, "late").await.is_err());
    // Entries are served all the same, and what is held may be given back.
    let read = fixture.read(&fixture.admin, "quayside/berths", "k").await.unwrap();
    assert_eq!(&read.unwrap().entry.value[..], b"served");
    berths.locker.release_lock(&key("held"), held.token).unwrap();
    kill(mariadb, Signal::SIGCONT).unwrap();
    // One of them goes on; which one is MariaDB's to say, and not both.
    until("one gives locks again", async || {
        let both = [&active, &standby].map(|s| s.control().role() == Role::Active);
        assert_ne!(both, [true; 2]);
        lock(&fixture, &active, "c").await.is_ok() || lock(&fixture, &standby, "c").await.is_ok()
    })
    .await;
    active.stop();
    standby.stop();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_cannot_run_twice_and_remembers_its_role_without_mariadb() {
    let directory = tempfile::tempdir().unwrap();
    let file = |of: &str| Some(directory.path().join(of));
    let (first, second) = (node("first"), node("second"));
    let options = |node: &Node, of: &str| {
        let (node, records_snapshot) = (Some(node.clone()), file(of));
        in_control(ControlOptions { node, records_snapshot, ..Default::default() })
    };
    let fixture = Fixture::start(options(&first, "first")).await;
    let records = || Records::later(fixture.records.url().unwrap());
    let twice = Service::start(records(), options(&first, "first")).await.unwrap_err();
    assert!(twice.to_string().contains("remove node.id"), "{twice}");
    let standby = Service::start(records(), options(&second, "second")).await.unwrap();
    until("both have filed who is active", async || {
        ["first", "second"].iter().all(|of| {
            let filed = verax_records::RecordsSnapshot::read(&file(of).unwrap());
            filed.is_ok_and(|filed| filed.topology.nodes.len() == 2)
        })
    })
    .await;
    standby.stop();
    fixture.service.stop();
    fixture.end().await;
    // No MariaDB any more: the one that was active serves, the other may not be alone.
    let away = || Records::later("mysql://verax@127.0.0.1:1/verax");
    let served = Service::start(away(), options(&first, "first")).await.unwrap();
    let waits = Service::start(away(), options(&second, "second")).await.unwrap();
    assert_eq!((served.control().role(), waits.control().role()), (Role::Active, Role::Standby));
    served.stop();
    waits.stop();
}

/// MariaDB ends the session of a node that is silent for three seconds; reading the records may
/// take longer than that.
#[tokio::test(flavor = "multi_thread")]
async fn a_start_whose_records_are_read_slowly_keeps_its_lease() {
    let fixture = Fixture::start(Default::default()).await;
    fixture.namespace("quayside", "berths", None).await;
    fixture.service.stop();
    let mut connection = connect(&fixture).await;
    connection.batch_execute("LOCK TABLES tenants WRITE").await.unwrap();
    let records = Records::later(fixture.records.url().unwrap());
    let options = ControlOptions { node: Some(node("first")), ..Default::default() };
    let starting = tokio::spawn(Service::start(records, in_control(options)));
    let other = async { lease(&mut connect(&fixture).await).await };
    let had = tokio::time::timeout(Duration::from_secs(60), async {
        let mut session = None;
        while session.is_none() {
            session = lease(&mut connect(&fixture).await).await;
        }
        session
    });
    let had = had.await.unwrap();
    tokio::time::sleep(LEASE_VALIDITY + Duration::from_secs(2)).await;
    assert_eq!(other.await, had, "the same session has it all the time");
    connection.batch_execute("UNLOCK TABLES").await.unwrap();
    let service = starting.await.unwrap().unwrap();
    assert_eq!(service.control().role(), Role::Active);
    service.control().create_tenant(&fixture.admin, "tideline").await.unwrap();
    service.stop();
    fixture.end().await;
}
