//! The service over real records and a real origin: who sees what, what runs do, and what changes
//! while something is under way.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::extract::Path;
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::routing::get;
use rstest::rstest;
use verax_api::{
    CreateOrigin, CreateSession, KeySource, LoadProgress, LoadReport, LoadRequest, LoadRun,
    OriginChange, PatternKeys, PolicyChange, ProfileChoice, WarmRequest, WarmRun, WarmValues,
};
use verax_control::ActivityFilter;
use verax_control::ControlError;
use verax_control::Expected;
use verax_control::access::Caller;
use verax_control::runs::{LoadControls, LoadPlan, LoadRunner, RunningLoad};
use verax_core::load::LaneRecorder;
use verax_engine::cache::{ReadOptions, Source};
use verax_engine::{EngineOptions, MemoryUse};
use verax_service::{Service, ServiceOptions};

use crate::fixture::{Fixture, key, name, open, until};

/// An origin that answers with the key, counts its calls, and knows no `nothing`.
async fn origin() -> (String, Arc<AtomicU64>) {
    let calls = Arc::new(AtomicU64::new(0));
    let counted = Arc::clone(&calls);
    let answer = move |Path(key): Path<String>| {
        counted.fetch_add(1, Ordering::SeqCst);
        async move {
            match key.as_str() {
                "nothing" => StatusCode::NOT_FOUND.into_response(),
                "private" => ([("cache-control", "no-store")], key).into_response(),
                "listing" => r#"["one","two","three"]"#.into_response(),
                _ => ([("cache-groups", "\"desk\"")], key).into_response(),
            }
        }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let router = Router::new().route("/{key}", get(answer));
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    (url, calls)
}

#[tokio::test(flavor = "multi_thread")]
async fn callers_see_only_their_own_samples_lists_and_activity() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    fixture.namespace("ferrydesk", "boards", None).await;
    fixture.namespace("ferrydesk", "fares", None).await;
    fixture.namespace("tideline", "tables", None).await;
    let service = &fixture.service;
    let reader =
        service.control().token_caller(&fixture.token(&["read:ferrydesk/boards"]).await).unwrap();
    let manager =
        service.control().token_caller(&fixture.token(&["manage:tideline"]).await).unwrap();

    // Live samples: the namespaces a caller may see, and the whole's memory for administrators
    // alone.
    let (_, mut samples) = service.control().watch(&reader);
    fixture.put("ferrydesk/boards", "k", "v");
    fixture.read(&reader, "ferrydesk/boards", "k").await.unwrap().unwrap();
    let mut reads = 0;
    while reads == 0 {
        let sample = samples.next().await.unwrap();
        assert_eq!(sample.namespaces.len(), 1);
        assert_eq!((sample.memory_bytes, sample.evictions), (None, None));
        reads = sample.namespaces[0].reads;
        if reads > 0 {
            assert_eq!((sample.namespaces[0].hits, sample.namespaces[0].hit_ratio), (1, Some(1.0)));
            assert_eq!(sample.hit_latency.unwrap().samples, 1);
        }
    }
    let (history, _) = service.control().watch(&Arc::new(fixture.admin.clone()));
    let latest = history.last().unwrap();
    assert_eq!(latest.namespaces.len(), 3);
    assert!(latest.memory_bytes.unwrap() > 0 && latest.memory_limit_bytes.is_some());
    let (seen, _) = service.control().watch(&manager);
    assert!(seen.iter().all(|s| s.namespaces.iter().all(|n| n.tenant == "tideline")));

    // Lists: the same.
    let names =
        |caller| service.control().tenants(caller).into_iter().map(|t| t.name).collect::<Vec<_>>();
    assert_eq!(names(&reader), ["ferrydesk"]);
    assert_eq!(names(&fixture.admin), ["ferrydesk", "tideline"]);
    let namespaces = service.control().namespaces(&reader, &name("ferrydesk")).unwrap();
    assert_eq!(namespaces.len(), 1);
    assert!(matches!(
        service.control().namespaces(&reader, &name("tideline")),
        Err(ControlError::MissingScope(_))
    ));

    // Rights do not include each other.
    assert!(matches!(
        fixture.read(&manager, "tideline/tables", "k").await,
        Err(ControlError::MissingScope(scope)) if scope.to_string() == "read:tideline/tables"
    ));
    assert!(service.control().clear(&reader, &name("ferrydesk"), &name("boards")).await.is_err());
    assert!(service.control().clear(&manager, &name("tideline"), &name("tables")).await.is_ok());
    assert!(
        service
            .control()
            .create_token(&manager, &verax_api::CreateToken::new(&["admin".into()], ""))
            .await
            .is_err()
    );
    assert!(service.control().activity(&manager, &ActivityFilter::latest(None, 10)).await.is_err());
    let activity = service
        .control()
        .activity(&manager, &ActivityFilter::latest(Some(name("tideline")), 10))
        .await
        .unwrap();
    assert_eq!(activity[0].action, "namespace.clear");
    assert!(activity.iter().all(|a| a.tenant.as_deref() == Some("tideline")));
    fixture.end().await;
}

/// Promise of the activity list: one row for each change, with its author, and none for a refusal.
#[tokio::test(flavor = "multi_thread")]
async fn every_administrative_change_is_one_activity_and_a_refused_one_is_none() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (control, admin) = (fixture.service.control(), &fixture.admin);
    let (tenant, origin, boards) = (name("ferrydesk"), name("desk"), name("boards"));
    control.create_tenant(admin, "ferrydesk").await.unwrap();
    let url = "http://127.0.0.1:9/{key}".to_owned();
    let create = CreateOrigin { name: "desk".into(), url, ..CreateOrigin::default() };
    control.create_origin(admin, &tenant, &create).await.unwrap();
    let change = OriginChange { total_timeout_ms: Some(500), ..OriginChange::default() };
    control.change_origin(admin, &tenant, &origin, &change, Expected::Any).await.unwrap();
    let policy = PolicyChange { max_age_seconds: Some(30.0), ..PolicyChange::default() };
    control.create_namespace(admin, &tenant, "boards", &policy).await.unwrap();
    let longer = PolicyChange { max_age_seconds: Some(60.0), ..PolicyChange::default() };
    control.change_namespace(admin, &tenant, &boards, &longer, Expected::Any).await.unwrap();
    let scopes = ["read:ferrydesk".to_owned()];
    let token =
        control.create_token(admin, &verax_api::CreateToken::new(&scopes, "boards")).await.unwrap();

    // Refused: by a condition, by what is there, by a value out of range, and by a missing scope.
    let other = Expected::OneOf(vec![verax_core::entry::EntityTag::of("text/plain", b"other")]);
    let refused = control.change_namespace(admin, &tenant, &boards, &policy, other).await;
    assert!(matches!(refused, Err(ControlError::NotExpected(_))), "{refused:?}");
    let other = Expected::OneOf(vec![verax_core::entry::EntityTag::of("text/plain", b"other")]);
    let absurd = PolicyChange { negative_max_age_seconds: Some(-1.0), ..PolicyChange::default() };
    let refused = control.change_namespace(admin, &tenant, &boards, &absurd, other).await;
    assert!(matches!(refused, Err(ControlError::Invalid(_))), "never valid: {refused:?}");
    assert!(control.create_tenant(admin, "ferrydesk").await.is_err());
    assert!(control.delete_tenant(admin, &tenant).await.is_err());
    let absurd = PolicyChange { max_age_seconds: Some(-1.0), ..PolicyChange::default() };
    let refused = control.change_namespace(admin, &tenant, &boards, &absurd, Expected::Any).await;
    assert!(matches!(refused, Err(ControlError::Invalid(_))), "{refused:?}");
    let reader = control.token_caller(&token.secret).unwrap();
    assert!(control.delete_namespace(&reader, &tenant, &boards).await.is_err());
    assert_eq!(control.namespaces(admin, &tenant).unwrap()[0].policy.max_age_seconds, 60.0);

    control.revoke_token(admin, token.token.id).await.unwrap();
    control.delete_namespace(admin, &tenant, &boards).await.unwrap();
    control.delete_origin(admin, &tenant, &origin).await.unwrap();
    control.delete_tenant(admin, &tenant).await.unwrap();
    let mut activity = control.activity(admin, &ActivityFilter::latest(None, 100)).await.unwrap();
    activity.reverse();
    assert!(activity.iter().all(|item| item.actor == activity[0].actor), "{activity:?}");
    let actions: Vec<&str> = activity.iter().map(|item| item.action.as_str()).collect();
    let expected = [
        "tenant.create",
        "origin.create",
        "origin.change",
        "namespace.create",
        "namespace.change",
        "token.create",
        "token.revoke",
        "namespace.delete",
        "origin.delete",
        "tenant.delete",
    ];
    assert_eq!(actions, expected);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_end_with_their_tokens() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    fixture.namespace("ferrydesk", "boards", None).await;
    let service = &fixture.service;
    let secret = fixture.token(&["read:ferrydesk"]).await;
    let (by_token, shown) =
        service.control().start_session(&CreateSession::Token(secret.clone())).unwrap();
    assert_eq!(shown.scopes, ["read:ferrydesk"]);
    let link = service.control().sign_in_link(&service.control().token_caller(&secret).unwrap());
    let code = link.unwrap().path.strip_prefix("/sign-in#").unwrap().to_owned();
    let (by_code, _) = service.control().start_session(&CreateSession::Code(code.clone())).unwrap();
    assert!(
        service.control().start_session(&CreateSession::Code(code)).is_err(),
        "a code works once"
    );
    assert!(
        service.control().session_caller(&by_token).is_ok()
            && service.control().session_caller(&by_code).is_ok()
    );
    // A session is not a token, nor the other way round.
    assert!(
        service.control().token_caller(&by_token).is_err()
            && service.control().session_caller(&secret).is_err()
    );
    let tokens = service.control().tokens(&fixture.admin, 0, 1_000).await.unwrap();
    service.control().revoke_token(&fixture.admin, tokens.last().unwrap().id).await.unwrap();
    assert!(
        service.control().session_caller(&by_token).is_err()
            && service.control().session_caller(&by_code).is_err()
    );
    assert!(service.control().token_caller(&secret).is_err());
    // The first administrator token is created; no further one is by itself, whatever the file
    // says.
    let first = service.control().administrator_token(None).await.unwrap();
    assert_eq!(service.control().administrator_token(Some(&first)).await.unwrap(), first);
    for known in [None, Some("lost"), Some(""), Some(secret.as_str())] {
        let refused = service.control().administrator_token(known).await.unwrap_err();
        assert!(matches!(refused, ControlError::Conflict(_)), "{known:?}: {refused:?}");
    }
    let another = service.control().new_administrator_token().await.unwrap();
    assert!(another != first && service.control().token_caller(&another).unwrap().is_admin());
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn created_namespaces_survive_and_deleted_ones_lose_their_entries() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (url, calls) = origin().await;
    fixture.namespace("quayside", "berths", Some(&url)).await;
    let admin = &fixture.admin;
    let answer = fixture.read(admin, "quayside/berths", "b1").await.unwrap().unwrap();
    assert!(matches!(answer.source, Source::Origin(refill) if refill.stored));
    assert_eq!(&*answer.entry.tags[0], "desk");

    // A second service over the same records knows all of it.
    let other = Service::start(fixture.records.clone(), ServiceOptions::default()).await.unwrap();
    let (tenant, namespace) = (name("quayside"), name("berths"));
    let opened = open(&other, admin, "quayside/berths").unwrap();
    let there = opened.reader.read(&key("b1"), ReadOptions::default()).await;
    assert!(matches!(there.unwrap().unwrap().source, Source::Origin(_)));
    assert_eq!(calls.load(Ordering::SeqCst), 2);
    other.stop();

    // An origin that is changed is used at once by the namespaces bound to it.
    let (elsewhere, moved) = origin().await;
    let change = OriginChange { url: Some(format!("{elsewhere}/{{key}}")), ..Default::default() };
    fixture
        .service
        .control()
        .change_origin(admin, &tenant, &name("desk"), &change, Expected::Any)
        .await
        .unwrap();
    fixture.read(admin, "quayside/berths", "b2").await.unwrap().unwrap();
    assert_eq!((calls.load(Ordering::SeqCst), moved.load(Ordering::SeqCst)), (2, 1));
    let unusable =
        OriginChange { url: Some(format!("{elsewhere}/{{berth}}")), ..Default::default() };
    let refused = fixture
        .service
        .control()
        .change_origin(admin, &tenant, &name("desk"), &unusable, Expected::Any)
        .await;
    assert!(refused.unwrap_err().to_string().contains("{berth}"));

    // In use, it cannot go; unbound, it can; and the namespace takes its entries along.
    let in_use =
        fixture.service.control().delete_origin(admin, &tenant, &name("desk")).await.unwrap_err();
    assert!(matches!(in_use, ControlError::Conflict(_)), "{in_use}");
    let unbind = PolicyChange { origin: Some(None), ..Default::default() };
    fixture
        .service
        .control()
        .change_namespace(admin, &tenant, &namespace, &unbind, Expected::Any)
        .await
        .unwrap();
    fixture.service.control().delete_origin(admin, &tenant, &name("desk")).await.unwrap();
    assert!(fixture.read(admin, "quayside/berths", "b3").await.unwrap().is_none());
    assert!(fixture.service.engine().memory().used > 0);
    fixture.service.control().delete_namespace(admin, &tenant, &namespace).await.unwrap();
    until("its memory is back", async || fixture.service.engine().memory().used == 0).await;
    let gone = fixture.read(admin, "quayside/berths", "b1").await.unwrap_err();
    assert_eq!(gone.to_string(), "there is no namespace quayside/berths");
    // A new namespace of the same name starts empty, with an identity of its own.
    fixture.namespace("quayside", "berths", None).await;
    assert!(fixture.read(admin, "quayside/berths", "b1").await.unwrap().is_none());
    fixture.service.control().delete_namespace(admin, &tenant, &namespace).await.unwrap();
    fixture.service.control().delete_tenant(admin, &tenant).await.unwrap();
    assert!(fixture.service.control().tenants(admin).is_empty());
    fixture.end().await;
}

fn list(values: &[&str]) -> BTreeMap<String, WarmValues> {
    let values = values.iter().map(|v| (*v).to_owned()).collect();
    [("key".to_owned(), WarmValues::List(values))].into()
}

#[tokio::test(flavor = "multi_thread")]
async fn warm_runs_store_what_they_can_and_report_the_rest() {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (url, calls) = origin().await;
    fixture.namespace("ferrydesk", "boards", Some(&url)).await;
    let (tenant, namespace) = (name("ferrydesk"), name("boards"));
    let warm = async |values, concurrency| {
        let source = KeySource::Pattern(PatternKeys { pattern: None, values, rows: None });
        let request = WarmRequest { keys: vec![source], concurrency, ..WarmRequest::default() };
        fixture
            .service
            .control()
            .start_warm_run(&fixture.admin, &tenant, &namespace, &request)
            .await
    };
    let run = warm(list(&["a", "b", "nothing", "private"]), Some(2)).await.unwrap();
    let mut changes = run.watch();
    let ended = changes.wait_for(|run| run.state != "running").await.unwrap().clone();
    // A value that the origin does not have is no failure.
    assert_eq!((ended.state.as_str(), ended.keys, ended.stored), ("done", 4, 2));
    assert_eq!((ended.no_value, ended.failed, ended.finished()), (1, 1, 4));
    let failed: Vec<&str> = ended.failures.iter().map(|f| f.key.as_str()).collect();
    assert_eq!(failed, ["private"]);
    assert_eq!(ended.failure_counts[0].kind, "no-store");
    for (k, before) in [("a", 4), ("b", 4), ("private", 4)] {
        let answer = fixture.read(&fixture.admin, "ferrydesk/boards", k).await.unwrap().unwrap();
        assert_eq!(matches!(answer.source, Source::Hit(_)), k != "private");
        assert!(calls.load(Ordering::SeqCst) >= before);
    }

    // Values from a listing of the origin; what is warm already is refreshed all the same.
    let listing = [("key".to_owned(), WarmValues::Listing("/listing".into()))].into();
    let run = warm(listing, None).await.unwrap();
    let ended = run.watch().wait_for(|run| run.state != "running").await.unwrap().clone();
    assert_eq!((ended.keys, ended.stored), (3, 3));

    // What cannot be planned is refused before anything is read.
    let before = calls.load(Ordering::SeqCst);
    for (values, concurrency, says) in [
        (list(&["a"]), Some(0), "1 to 256"),
        (list(&[]), None, "no values"),
        (BTreeMap::new(), None, "no values"),
    ] {
        let error = warm(values, concurrency).await.unwrap_err().to_string();
        assert!(error.contains(says), "{error}");
    }
    assert_eq!(calls.load(Ordering::SeqCst), before);

    // A stop ends a run after the refills under way; others may not even see it.
    let many: Vec<String> = (0..5_000).map(|n| n.to_string()).collect();
    let many: Vec<&str> = many.iter().map(String::as_str).collect();
    let run = warm(list(&many), Some(1)).await.unwrap();
    let stranger = Caller::service("a stranger", vec!["manage:tideline".parse().unwrap()]);
    let id = run.now().id;
    assert!(matches!(
        fixture.service.control().stop_run::<WarmRun>(&stranger, id),
        Err(ControlError::Unknown(_))
    ));
    fixture.service.control().stop_run::<WarmRun>(&fixture.admin, id).unwrap();
    let ended = run.watch().wait_for(|run| run.state != "running").await.unwrap().clone();
    assert_eq!(ended.state, "stopped");
    assert!(ended.stored < 5_000, "{}", ended.stored);
    fixture.end().await;
}

/// How a played load run ends.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Ending {
    Report,
    Failure,
    Panic,
}

/// Plays a load run: reports when it is told to.
#[derive(Debug)]
struct Played {
    ending: Ending,
    token: Arc<Mutex<String>>,
}

fn report() -> LoadReport {
    LoadReport {
        measured_seconds: 1.0,
        keys: 1,
        lanes: Vec::new(),
        comparisons: Vec::new(),
        stages: Vec::new(),
        errors: Vec::new(),
        doubts: Vec::new(),
        goals: Vec::new(),
        against_baseline: None,
        meanings: Vec::new(),
    }
}

impl LoadRunner for Played {
    fn run(&self, plan: LoadPlan, controls: LoadControls) -> RunningLoad {
        let LoadControls { progress, mut stop, .. } = controls;
        let ending = self.ending;
        self.token.lock().unwrap().clone_from(&plan.token);
        Box::pin(async move {
            let tick = verax_api::LoadTick {
                at_seconds: 1.0,
                stage: 0,
                warm_up: false,
                level: 4.0,
                lanes: vec![LaneRecorder::default().figures(Duration::from_secs(1), true); 2],
                machine: Default::default(),
                service: Default::default(),
                histograms: Vec::new(),
            };
            assert!(plan.token.starts_with("verax-token-") && plan.keys.len() == 2);
            let (workers, marks) = (Vec::new(), Vec::new());
            progress(LoadProgress { tick: Some(tick), so_far: Some(report()), workers, marks });
            let _ = stop.wait_for(|stop| *stop).await;
            match ending {
                Ending::Report => Ok(report()),
                Ending::Failure => Err("it broke".to_owned()),
                Ending::Panic => panic!("a played panic"),
            }
        })
    }
}

#[rstest]
#[case::to_its_end(Ending::Report, "stopped", None)]
#[case::to_a_failure(Ending::Failure, "failed", Some("it broke"))]
#[case::to_a_panic(Ending::Panic, "failed", Some("the run failed inside Verax"))]
#[tokio::test(flavor = "multi_thread")]
async fn load_runs_exclude_each_other_and_keep_their_end_state(
    #[case] ending: Ending,
    #[case] state: &str,
    #[case] reason: Option<&str>,
) {
    let fixture = Fixture::start(ServiceOptions::default()).await;
    let (url, _) = origin().await;
    fixture.namespace("ferrydesk", "boards", Some(&url)).await;
    fixture.namespace("ferrydesk", "notes", None).await;
    let spec = |namespace: &str| {
        let json = serde_json::json!({
            "name": "rush", "namespace": namespace, "keys": [{ "list": ["a", "b"] }],
        });
        let profile = ProfileChoice::Inline(Box::new(serde_json::from_value(json).unwrap()));
        LoadRequest { profile, workers: 1, joined: false }
    };
    let start = async |namespace: &str| {
        fixture.service.control().start_load_run(&fixture.admin, &spec(namespace)).await
    };
    assert!(
        matches!(start("ferrydesk/boards").await, Err(ControlError::Overloaded(_))),
        "no runner yet"
    );
    let token = Arc::default();
    fixture
        .service
        .control()
        .set_load_runner(Arc::new(Played { ending, token: Arc::clone(&token) }));
    assert!(start("ferrydesk/notes").await.unwrap_err().to_string().contains("no origin"));
    let run = start("ferrydesk/boards").await.unwrap();
    run.watch().wait_for(|run| run.ticks.len() == 1).await.unwrap();
    assert!(matches!(start("ferrydesk/boards").await, Err(ControlError::Conflict(_))));
    fixture.service.control().stop_run::<LoadRun>(&fixture.admin, run.now().id).unwrap();
    let ended = run.watch().wait_for(|run| run.state != "running").await.unwrap().clone();
    assert_eq!(ended.state, state);
    assert_eq!(ended.reason.as_deref(), reason);
    let lent = token.lock().unwrap().clone();
    assert!(fixture.service.control().token_caller(&lent).is_err(), "it was taken back");
    // The slot is free again, and the records have the end.
    until("the next run may start", async || start("ferrydesk/boards").await.is_ok()).await;
    // The seconds of the one before are in the records alone, and found there.
    assert!(run.now().ticks.is_empty());
    let of_before = fixture.service.control().load_run(&fixture.admin, ended.id).await.unwrap();
    assert_eq!(of_before.ticks.len(), 1);
    let other = Service::start(fixture.records.clone(), ServiceOptions::default()).await.unwrap();
    let runs = other.control().recent_runs::<LoadRun>(&fixture.admin).await;
    // Lists have no seconds, but the run itself does, in a later process too.
    assert!(runs.iter().any(|r| r.id == ended.id && r.state == state && r.ticks.is_empty()));
    let run = other.control().load_run(&fixture.admin, ended.id).await.unwrap();
    assert_eq!((run.ticks.len(), run.state.as_str()), (1, state));
    let stranger = Caller::service("a stranger", vec!["manage:tideline".parse().unwrap()]);
    let hidden = other.control().load_run(&stranger, ended.id).await;
    assert!(matches!(hidden, Err(ControlError::Unknown(_))));
    other.stop();
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn memory_stays_within_its_limit_whatever_is_stored() {
    let options = ServiceOptions {
        engine: EngineOptions { memory_limit: 1 << 20, ..Default::default() },
        ..Default::default()
    };
    let fixture = Fixture::start(options).await;
    fixture.namespace("ferrydesk", "boards", None).await;
    for n in 0..5_000 {
        fixture.put("ferrydesk/boards", &format!("k{n}"), &"x".repeat(1_000));
        let MemoryUse { used, limit, .. } = fixture.service.engine().memory();
        assert!(used <= limit, "{used} of {limit}");
    }
    let MemoryUse { used, limit, evicted } = fixture.service.engine().memory();
    assert!(used > limit / 2 && evicted > 3_000, "{used} {evicted}");
    fixture.end().await;
}
