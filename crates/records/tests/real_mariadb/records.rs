//! The records and the launcher against a real MariaDB.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rstest::rstest;
use serde_json::json;
use verax_core::origin::{Balance, OriginSource, SqlResult};
use verax_core::{KeyPattern, Name, NamespacePolicy, OriginBinding, OriginSettings, Timestamp};
use verax_records::launcher::{LaunchError, Listen, PrivateServer, PrivateServerOptions};
use verax_records::{
    ActivityFilter, Actor, Change, NamespaceRecord, NewRun, NewToken, Records, RecordsError,
    RunKind, RunState,
};

fn name(text: &str) -> Name {
    Name::new(text).unwrap()
}

fn at(millis: u64) -> Timestamp {
    Timestamp::from_millis(millis)
}

/// Waits for something that must come true.
async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let started = Instant::now();
    while !holds().await {
        assert!(started.elapsed() < Duration::from_secs(60), "gave up waiting until {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

fn runs(process: u32) -> bool {
    // A process that has ended but was not waited for yet no longer has a command line.
    std::fs::read(format!("/proc/{process}/cmdline")).is_ok_and(|text| !text.is_empty())
}

/// Whether every thread of a process has come to the stop that a signal asked for.
fn has_stopped(process: Pid) -> bool {
    let tasks = std::fs::read_dir(format!("/proc/{process}/task")).unwrap();
    tasks
        .map(|task| std::fs::read_to_string(task.unwrap().path().join("stat")).unwrap_or_default())
        .all(
            // The name in parentheses may hold anything; the state comes after it.
            |stat| stat.rsplit_once(") ").is_some_and(|(_, rest)| rest.starts_with('T')),
        )
}

#[tokio::test(flavor = "multi_thread")]
async fn records_survive_restarts_crashes_and_stale_files() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let records = Records::open(server.url("verax")).await.unwrap();
    administer(&records).await;
    let run = start_run(&records).await;
    mariadb_crashes_and_hangs(&server, &records).await;

    // A clean stop, then a start over stale files.
    let process = server.process_id().unwrap();
    server.stop().await.unwrap();
    assert!(!runs(process));
    std::fs::write(directory.path().join("mariadbd.pid"), "1\n").unwrap();
    std::fs::write(directory.path().join("data/mariadbd.sock"), "").unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let records = Records::open(server.url("verax")).await.unwrap();
    // Runs that were active when the process ended are marked.
    assert_eq!(records.interrupt_runs(at(20)).await.unwrap(), []);
    let ended = &records.runs(RunKind::Load, 10).await.unwrap()[0];
    assert_eq!((ended.id, ended.state), (run, RunState::Interrupted));

    // Who changed what, newest first.
    let activity =
        records.activity(&ActivityFilter::latest(Some(name("tideline")), 4)).await.unwrap();
    let actions: Vec<String> = activity.into_iter().map(|a| a.action).collect();
    assert_eq!(actions, ["namespace.clear", "load.run", "namespace.change", "namespace.create"]);
    server.stop().await.unwrap();
}

#[tokio::test]
async fn records_in_memory_keep_the_same_promises() {
    let records = Records::in_memory();
    records.prepare().await.unwrap();
    administer(&records).await;
    let run = start_run(&records).await;
    let activity =
        records.activity(&ActivityFilter::latest(Some(name("tideline")), 4)).await.unwrap();
    let actions: Vec<String> = activity.into_iter().map(|a| a.action).collect();
    assert_eq!(actions, ["namespace.clear", "load.run", "namespace.change", "namespace.create"]);
    assert_eq!(records.interrupt_runs(at(20)).await.unwrap(), []);
    let ended = &records.runs(RunKind::Load, 10).await.unwrap()[0];
    assert_eq!((ended.id, ended.state), (run, RunState::Interrupted));
    // A run that has ended does not change.
    records.keep_run(run, RunState::Done, &json!(1), Some(at(21))).await.unwrap();
    assert_eq!(records.runs(RunKind::Load, 10).await.unwrap()[0].state, RunState::Interrupted);
    assert_eq!(records.next_lock_epoch(7, at(22)).await.unwrap(), 8);
    assert_eq!(records.next_lock_epoch(3, at(22)).await.unwrap(), 9);
    let joined = records.join(verax_records::NodeId::random()).await;
    assert!(matches!(joined, Err(RecordsError::Unavailable(_))));
}

/// Records in memory, or in a MariaDB of their own.
async fn records_in(place: &str, directory: &Path) -> (Records, Option<PrivateServer>) {
    if place == "in memory" {
        return (Records::in_memory(), None);
    }
    let server = PrivateServer::start(directory).await.unwrap();
    (Records::open(server.url("verax")).await.unwrap(), Some(server))
}

/// Attempts changes that the present records do not allow.
async fn changes_are_refused(records: &Records, namespace: &NamespaceRecord) {
    let (actor, tenant, tables) = (Actor::new("the test"), name("tideline"), name("tables"));
    let policy = NamespacePolicy::default();
    let origin = Some(OriginBinding {
        origin: name("nowhere"),
        key_pattern: KeyPattern::parse("tide/{gauge}").unwrap(),
    });
    let unbound = NamespacePolicy { origin, ..NamespacePolicy::default() };
    for refused in [
        records
            .change_policy(namespace, (&namespace.policy, &unbound), &actor, at(4))
            .await
            .map(drop),
        records.create_namespace(&tenant, &tables, &policy, &actor, at(4)).await.map(drop),
        records.create_namespace(&tenant, &name("b"), &unbound, &actor, at(4)).await.map(drop),
        records.create_namespace(&name("b"), &tables, &policy, &actor, at(4)).await.map(drop),
        records.delete_origin(&tenant, &name("nowhere"), &actor, at(4)).await.map(drop),
        records.delete_tenant(&tenant, &actor, at(4)).await.map(drop),
        records.delete_tenant(&name("b"), &actor, at(4)).await.map(drop),
        records.revoke_token(9, &actor, at(4)).await.map(drop),
    ] {
        assert!(
            matches!(
                refused,
                Err(RecordsError::Missing(_)
                    | RecordsError::Exists(_)
                    | RecordsError::InUse { .. })
            ),
            "{refused:?}"
        );
    }
}

#[rstest]
#[case("in memory")]
#[case("in MariaDB")]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_deleted_is_forgotten_and_what_is_refused_changes_nothing(#[case] place: &str) {
    let directory = tempfile::tempdir().unwrap();
    let (records, server) = records_in(place, directory.path()).await;
    let (actor, tenant, tables) = (Actor::new("the test"), name("tideline"), name("tables"));
    records.create_tenant(&tenant, &actor, at(1)).await.unwrap();
    let policy = NamespacePolicy::default();
    let created = records.create_namespace(&tenant, &tables, &policy, &actor, at(2)).await;
    let namespace = created.unwrap().value;
    let scopes = ["read:tideline/tables write:ferrydesk", "read:tideline", "write:tideline/tables"];
    for (number, scopes) in (1..).zip(scopes) {
        records
            .create_token(&NewToken::new([number; 32], scopes, ""), &actor, at(3))
            .await
            .unwrap();
    }
    let before = records.snapshot().await.unwrap();
    changes_are_refused(&records, &namespace).await;
    assert_eq!(records.snapshot().await.unwrap(), before);
    assert_eq!(records.activity(&ActivityFilter::latest(None, 100)).await.unwrap().len(), 5);

    assert_eq!(
        records.delete_namespace(&namespace, &actor, at(5)).await.unwrap().revision,
        before.revision + 1
    );
    assert!(records.delete_namespace(&namespace, &actor, at(5)).await.is_err());
    let open = |tokens: Vec<verax_records::TokenRecord>| -> Vec<(u64, String, bool)> {
        tokens.into_iter().map(|t| (t.id, t.scopes, t.revoked_at.is_some())).collect()
    };
    let kept = |second: &str, gone| {
        vec![
            (1, "write:ferrydesk".to_owned(), false),
            (2, second.to_owned(), gone),
            (3, String::new(), true),
        ]
    };
    assert_eq!(open(records.tokens().await.unwrap()), kept("read:tideline", false));
    records.delete_tenant(&tenant, &actor, at(6)).await.unwrap();
    assert_eq!(open(records.tokens_after(0, 9).await.unwrap()), kept("", true));
    assert_eq!(records.tokens_after(1, 1).await.unwrap()[0].id, 2);
    // A later tenant of the same name does not get the activity of the earlier one.
    records.create_tenant(&tenant, &actor, at(7)).await.unwrap();
    assert_eq!(
        records.activity(&ActivityFilter::latest(Some(tenant.clone()), 100)).await.unwrap().len(),
        1
    );
    if let Some(server) = server {
        server.stop().await.unwrap();
    }
}

#[rstest]
#[case("in memory")]
#[case("in MariaDB")]
#[tokio::test(flavor = "multi_thread")]
async fn a_rotated_token_has_a_follower_and_an_end(#[case] place: &str) {
    let directory = tempfile::tempdir().unwrap();
    let (records, server) = records_in(place, directory.path()).await;
    let actor = Actor::new("the test");
    let new =
        NewToken { expires_at: Some(at(1_000)), ..NewToken::new([1; 32], "read:tideline", "desk") };
    let first = records.create_token(&new, &actor, at(100)).await.unwrap().value;
    assert!(!first.has_expired(at(999)) && first.has_expired(at(1_000)));
    // The follower lasts as long as the first one was to last.
    let rotated = records.rotate_token(first.id, [2; 32], at(500), &actor, at(400)).await;
    let rotated = rotated.unwrap().value;
    assert_eq!(
        (rotated.previous.expires_at, rotated.record.expires_at),
        (Some(at(500)), Some(at(1_300)))
    );
    assert_eq!((&*rotated.record.scopes, &*rotated.record.note), ("read:tideline", "desk"));
    // An overlap never makes a token last longer.
    let again = records.rotate_token(first.id, [3; 32], at(9_000), &actor, at(450)).await.unwrap();
    assert_eq!(again.value.previous.expires_at, Some(at(500)));
    let revision = records.revision().await.unwrap();
    records.note_uses(&[(first.id, at(460)), (99, at(460))]).await.unwrap();
    assert_eq!(records.revision().await.unwrap(), revision, "a use is no change");
    let kept = records.tokens().await.unwrap();
    assert_eq!(kept[0].last_used_at, Some(at(460)));
    assert_eq!((kept[0].expires_at, kept.len()), (Some(at(500)), 3));
    assert_eq!(kept[1..], [rotated.record, again.value.record]);
    records.revoke_token(first.id, &actor, at(470)).await.unwrap();
    for gone in [first.id, 99] {
        let refused = records.rotate_token(gone, [4; 32], at(500), &actor, at(480)).await;
        assert_eq!(refused.unwrap_err(), RecordsError::Missing(format!("token {gone}")));
    }
    assert_eq!(records.tokens().await.unwrap().len(), 3);
    let actions: Vec<String> = records
        .activity(&ActivityFilter::latest(None, 3))
        .await
        .unwrap()
        .into_iter()
        .map(|a| a.action)
        .collect();
    assert_eq!(actions, ["token.revoke", "token.rotate", "token.rotate"]);
    if let Some(server) = server {
        server.stop().await.unwrap();
    }
}

/// Creates a tenant, an origin, a namespace and a token, and tries every refusal.
async fn administer(records: &Records) {
    let actor = Actor::new("the test");
    records.create_tenant(&name("tideline"), &actor, at(1)).await.unwrap();
    let again = records.create_tenant(&name("tideline"), &actor, at(2)).await.unwrap_err();
    assert_eq!(again, RecordsError::Exists("tenant tideline".into()));
    let settings = OriginSettings::http("http://127.0.0.1:9/tides/{gauge}");
    let nowhere =
        records.create_origin(&name("nobody"), &name("o"), &settings, &actor, at(3)).await;
    assert_eq!(nowhere.unwrap_err(), RecordsError::Missing("tenant nobody".into()));
    records
        .create_origin(&name("tideline"), &name("gauges"), &settings, &actor, at(3))
        .await
        .unwrap();
    settings_round_trip(records, &actor).await;
    let mut policy = NamespacePolicy {
        negative_max_age: Duration::from_secs(5),
        early_refresh_percent: 100,
        write_through: true,
        origin: Some(OriginBinding {
            origin: name("gauges"),
            key_pattern: KeyPattern::parse("tide/{gauge}").unwrap(),
        }),
        ..Default::default()
    };
    let namespace = records
        .create_namespace(&name("tideline"), &name("tables"), &policy, &actor, at(4))
        .await
        .unwrap()
        .value;
    policy.lifetime.max_age = Duration::from_millis(1_500);
    records.change_policy(&namespace, (&namespace.policy, &policy), &actor, at(5)).await.unwrap();
    assert_eq!(records.namespaces().await.unwrap()[0].policy, policy);
    for refused in [
        records.delete_tenant(&name("tideline"), &actor, at(6)).await.unwrap_err(),
        records.delete_origin(&name("tideline"), &name("gauges"), &actor, at(6)).await.unwrap_err(),
    ] {
        assert!(matches!(refused, RecordsError::InUse { .. }), "{refused:?}");
    }

    // Tokens are known by hash and revoked once.
    let token = records
        .create_token(&NewToken::new([7; 32], "read:tideline", "for tests"), &actor, at(7))
        .await;
    let token = token.unwrap().value;
    records.revoke_token(token.id, &actor, at(8)).await.unwrap();
    assert!(records.revoke_token(token.id, &actor, at(9)).await.is_err());
    assert_eq!(records.tokens().await.unwrap()[0].revoked_at, Some(at(8)));
}

/// Origins of every source come back with the settings that were given.
async fn settings_round_trip(records: &Records, actor: &Actor) {
    let mut pooled = OriginSettings::http("http://127.0.0.1:9/tides/{gauge}");
    pooled.source = OriginSource::Http {
        url: "http://127.0.0.1:9/tides/{gauge}".into(),
        endpoints: vec!["http://127.0.0.1:10".into(), "http://127.0.0.1:11".into()],
        balance: Balance::LeastOutstanding,
        slow_after: Some(Duration::from_millis(250)),
    };
    pooled.guard.failure_threshold = 3;
    pooled.credential = Some(name("tides-api"));
    let mut query = OriginSettings::sql("mysql://tide@127.0.0.1/tides", "SELECT 1");
    if let OriginSource::Sql { result, max_rows, .. } = &mut query.source {
        (*result, *max_rows) = (SqlResult::Row, 7);
    }
    for (origin, settings) in [("pooled", &pooled), ("query", &query)] {
        let tenant = name("tideline");
        let plain = OriginSettings::http("http://127.0.0.1:9/");
        let origin = name(origin);
        let created =
            records.create_origin(&tenant, &origin, &plain, actor, at(3)).await.unwrap().value;
        records.change_origin(&created, settings, actor, at(3)).await.unwrap();
        let kept = records.origins().await.unwrap();
        let kept = kept.iter().find(|kept| kept.name == origin).unwrap();
        assert_eq!(&kept.settings, settings);
        records.delete_origin(&tenant, &origin, actor, at(3)).await.unwrap();
    }
}

/// Notes an active run and a bulk invalidation; returns the run.
async fn start_run(records: &Records) -> u64 {
    let actor = Actor::new("the test");
    let run = NewRun {
        kind: RunKind::Load,
        tenant: name("tideline"),
        namespace: name("tables"),
        title: "ebb".into(),
        detail: json!({}),
        result: json!(null),
        slot: None,
    };
    let run = records.start_run(&run, &actor, at(10)).await.unwrap();
    let note = Change {
        tenant: Some(name("tideline")),
        action: "namespace.clear",
        subject: "tideline/tables".into(),
        detail: json!({ "entries": 3 }),
    };
    records.note(&actor, at(11), note).await.unwrap();
    run
}

/// After a crash and after a hang of MariaDB, the records are usable again.
async fn mariadb_crashes_and_hangs(server: &PrivateServer, records: &Records) {
    // A crash of MariaDB: the keeper starts it again on the same port, with the same records.
    let first = server.process_id().unwrap();
    kill(Pid::from_raw(first as i32), Signal::SIGKILL).unwrap();
    until("MariaDB was started again", async || {
        server.process_id().is_some_and(|p| p != first) && records.ping().await.is_ok()
    })
    .await;
    assert_eq!(records.namespaces().await.unwrap().len(), 1);

    // A MariaDB that hangs is unavailable within seconds, and usable again afterwards.
    let second = Pid::from_raw(server.process_id().unwrap() as i32);
    kill(second, Signal::SIGSTOP).unwrap();
    // A change whose commit still got through would wait for its outcome.
    until("all of MariaDB has stopped", async || has_stopped(second)).await;
    let actor = Actor::new("the test");
    let hung = records.create_tenant(&name("late"), &actor, at(12)).await.unwrap_err();
    kill(second, Signal::SIGCONT).unwrap();
    assert!(matches!(hung, RecordsError::Unavailable(_)), "{hung:?}");
    until("MariaDB answers again", async || records.ping().await.is_ok()).await;
}

#[tokio::test]
async fn a_missing_program_is_named_with_its_package() {
    let directory = tempfile::tempdir().unwrap();
    let options = PrivateServerOptions {
        directory: directory.path().to_owned(),
        mariadbd: "/nowhere/mariadbd".into(),
        listen: Listen::Socket,
    };
    let error = PrivateServer::start_with(options).await.unwrap_err();
    assert!(matches!(error, LaunchError::NotInstalled { .. }));
    let message = error.to_string();
    assert!(
        message.contains("/nowhere/mariadbd") && message.contains("mariadb-server"),
        "{message}"
    );
}

#[tokio::test]
async fn records_that_cannot_be_reached_are_unavailable() {
    let error = Records::open("mysql://verax:x@127.0.0.1:1/verax").await.unwrap_err();
    assert!(matches!(error, RecordsError::Unavailable(_)), "{error:?}");
}

/// As below root's home: the server's user cannot get there by the path.
#[tokio::test(flavor = "multi_thread")]
async fn a_data_directory_below_a_private_directory_works() {
    let closed = tempfile::tempdir().unwrap();
    std::fs::set_permissions(closed.path(), std::fs::Permissions::from_mode(0o700)).unwrap();
    let directory = closed.path().join("records");
    for round in 0..2u8 {
        let server = PrivateServer::start_with(PrivateServerOptions {
            directory: directory.clone(),
            mariadbd: "mariadbd".into(),
            listen: Listen::Socket,
        });
        let server = server.await.unwrap();
        let records = Records::open(server.url("verax")).await.unwrap();
        let actor = Actor::new("the test");
        records
            .create_token(&NewToken::new([round; 32], "admin", ""), &actor, at(1))
            .await
            .unwrap();
        assert_eq!(records.tokens().await.unwrap().len(), usize::from(round) + 1);
        let process = server.process_id().unwrap();
        let command = std::fs::read(format!("/proc/{process}/cmdline")).unwrap();
        let command = String::from_utf8_lossy(&command).into_owned();
        let mounted = command.contains("--datadir=/run/verax-records/data");
        assert_eq!(mounted, nix::unistd::geteuid().is_root(), "{command}");
        server.stop().await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_work_and_failures_of_runs_are_kept_as_long_as_they_are_of_use() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let records = Records::open(server.url("verax")).await.unwrap();
    administer(&records).await;
    let actor = Actor::new("the test");
    let warm = || NewRun {
        kind: RunKind::Warm,
        tenant: name("tideline"),
        namespace: name("tables"),
        title: "ebb".into(),
        detail: json!({}),
        result: json!(null),
        slot: None,
    };
    let run = records.start_run(&warm(), &actor, at(10)).await.unwrap();
    // Larger than a part, and hardly compressible.
    let work: Vec<u8> = (0..3_000_000_u64).map(|n| (n.wrapping_mul(n) >> 7) as u8).collect();
    records.keep_work(run, &work).await.unwrap();
    assert_eq!(records.work(run).await.unwrap(), work);
    let unfinished = records.interrupt_runs(at(11)).await.unwrap();
    assert_eq!(unfinished.iter().map(|run| run.id).collect::<Vec<_>>(), [run]);
    let failure = |number, key: &str| verax_records::RunFailure {
        number,
        key: key.to_owned(),
        reason: "the origin did not answer".into(),
    };
    records.keep_failures(run, &[failure(0, "a"), failure(1, "b")]).await.unwrap();
    assert_eq!(records.failures(run, 1, 10).await.unwrap(), [failure(1, "b")]);
    records.prune_work().await.unwrap();
    assert_eq!(records.work(run).await.unwrap().len(), work.len(), "an active run keeps it");

    records.keep_run(run, RunState::Done, &json!(1), Some(at(12))).await.unwrap();
    records.prune_work().await.unwrap();
    assert!(records.work(run).await.is_err());
    for later in 1..=100 {
        assert_eq!(records.failures(run, 0, 10).await.unwrap().len(), 2, "{later} runs");
        records.start_run(&warm(), &actor, at(20)).await.unwrap();
        if later == 99 {
            records.prune_work().await.unwrap();
        }
    }
    records.prune_work().await.unwrap();
    assert_eq!(records.failures(run, 0, 10).await.unwrap(), []);
    server.stop().await.unwrap();
}
