//! Load runs against small servers that play Verax and its origin. The generators run in this
//! process, and talk to the conductor as processes do.

#![allow(clippy::unwrap_used)]

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use axum::Router;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::serve::ListenerExt;
use rstest::rstest;
use serde_json::json;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::sync::watch;
use tokio::task::JoinHandle;
use verax_api::{LoadProfileSpec, LoadProgress, LoadReport, WorkerState};
use verax_core::load::{
    ChangedLevel, ErrorKind, LaneRecorder, LaneTarget, OriginTarget, RecordedRead, RecordedReads,
    RefillBy, Steering, Transport,
};
use verax_core::{Key, OriginSettings};
use verax_load::{
    RunPlan, ServiceAddress, StartGenerator, StartedGenerator, Starting, conduct, generate,
};

/// A server that counts its calls and answers by their number.
async fn server<A>(
    answer: impl Fn(u64) -> A + Clone + Send + Sync + 'static,
) -> (String, Arc<AtomicU64>)
where
    A: Future<Output = Response> + Send + 'static,
{
    let calls = Arc::new(AtomicU64::new(0));
    let counted = Arc::clone(&calls);
    let handler = move || answer(counted.fetch_add(1, Ordering::SeqCst));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let router = Router::new().fallback(handler);
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    (url, calls)
}

/// A server that counts its connections.
async fn server_of_connections() -> (String, Arc<AtomicU64>) {
    let connections = Arc::new(AtomicU64::new(0));
    let counted = Arc::clone(&connections);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let listener = listener.tap_io(move |_| {
        counted.fetch_add(1, Ordering::SeqCst);
    });
    let router = Router::new().fallback(async || hit());
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    (url, connections)
}

async fn board() -> Response {
    "board".into_response()
}

fn hit() -> Response {
    ([("cache-status", "verax; hit; ttl=30")], "board").into_response()
}

/// Generators as tasks of this process, which can be killed.
#[derive(Default)]
struct Tasks {
    tasks: Arc<Mutex<Vec<JoinHandle<()>>>>,
}

impl StartGenerator for Tasks {
    fn start(&self) -> Starting {
        let tasks = Arc::clone(&self.tasks);
        Box::pin(async move {
            let (conductor, generator) = tokio::io::duplex(1 << 20);
            let (orders, reports) = tokio::io::split(generator);
            let task = tokio::spawn(async move {
                let _ = generate(orders, reports, None).await;
            });
            tasks.lock().unwrap().push(task);
            let (reports, orders) = tokio::io::split(conductor);
            Ok(StartedGenerator {
                reports: Box::new(reports),
                orders: Box::new(orders),
                alive: Box::new(()),
                machine: None,
            })
        })
    }
}

/// A plan over a service and an origin, with what a profile says otherwise.
fn plan(verax: &str, origin: &str, profile: serde_json::Value) -> RunPlan {
    let mut spec = json!({
        "name": "test", "namespace": "ferrydesk/boards", "popularity": { "zipf": 1.0 },
        "lanes": [
            { "name": "cached", "reads": "cache", "through": "http" },
            { "name": "direct", "reads": "origin" },
        ],
        "arrivals": { "clients": 2 },
    });
    spec.as_object_mut().unwrap().extend(profile.as_object().unwrap().clone());
    let spec: LoadProfileSpec = serde_json::from_value(spec).unwrap();
    let cached = LaneTarget::Cache {
        tenant: "ferrydesk".into(),
        namespace: "boards".into(),
        through: Transport::Http,
        refill: RefillBy::ReadThrough,
        origin: None,
    };
    let direct = LaneTarget::Origin(OriginTarget {
        settings: OriginSettings::http(format!("{origin}/boards/{{harbor}}")),
        key_pattern: "board/{harbor}".into(),
    });
    RunPlan {
        profile: spec.profile().unwrap(),
        lanes: vec![cached, direct],
        keys: ["board/a", "board/b"].map(|k| Key::new(k).unwrap()).into(),
        recorded: None,
        service: ServiceAddress { url: verax.to_owned(), ..ServiceAddress::default() },
        workers: 1,
    }
}

/// What became of a run.
struct Ended {
    report: Result<LoadReport, String>,
    updates: Vec<LoadProgress>,
}

impl Ended {
    fn report(&self) -> &LoadReport {
        self.report.as_ref().unwrap()
    }

    fn doubts(&self) -> Vec<&str> {
        let doubts = self.report().doubts.iter().map(|doubt| doubt.kind.as_str());
        // A busy host may disturb any run, and slow its generator.
        doubts.filter(|kind| !matches!(*kind, "disturbed" | "generator-bound")).collect()
    }
}

/// What a test does to a run while it is active.
struct Hands {
    steer: watch::Sender<Steering>,
    stop: watch::Sender<bool>,
    generators: Tasks,
}

/// Carries a plan out and keeps what was told of it; `see` sees each of that first.
async fn carry_out_seeing(
    plan: RunPlan,
    see: impl Fn(&LoadProgress, &Hands) + Send + 'static,
) -> Ended {
    let (steer, steering) = watch::channel(Steering::default());
    let (stop, stopped) = watch::channel(false);
    let hands = Arc::new(Hands { steer, stop, generators: Tasks::default() });
    let updates: Arc<Mutex<Vec<LoadProgress>>> = Arc::default();
    let (sink, held) = (Arc::clone(&updates), Arc::clone(&hands));
    let progress = move |progress: LoadProgress| {
        see(&progress, &held);
        sink.lock().unwrap().push(progress);
    };
    let report = conduct(plan, &hands.generators, steering, stopped, progress).await;
    let updates = updates.lock().unwrap().clone();
    Ended { report, updates }
}

async fn carry_out(plan: RunPlan) -> Ended {
    carry_out_seeing(plan, |_, _| {}).await
}

#[tokio::test(flavor = "multi_thread")]
async fn figures_exclude_the_warm_up_and_add_up_over_seconds() {
    let (verax, cached_calls) = server(async |n| match n {
        0 => ([("cache-status", "verax; fwd=uri-miss; fwd-status=200; ttl=30; stored")], "board")
            .into_response(),
        _ => hit(),
    })
    .await;
    let (origin, direct_calls) = server(|_| board()).await;
    let profile = json!({ "warm_up_seconds": 1, "duration_seconds": 2 });
    let ended = carry_out(plan(&verax, &origin, profile)).await;

    let report = ended.report();
    let ticks: Vec<_> = ended.updates.iter().filter_map(|p| p.tick.as_ref()).collect();
    assert_eq!(ticks.iter().map(|tick| tick.warm_up).collect::<Vec<_>>(), [true, false, false]);
    for (number, lane) in report.lanes.iter().enumerate() {
        let sum: u64 = ticks[1..].iter().map(|tick| tick.lanes[number].requests).sum();
        assert_eq!(lane.figures.requests, sum);
        assert_eq!(lane.warm_up.unwrap().requests, ticks[0].lanes[number].requests);
        assert!(lane.corrected.is_some() && lane.from_send.is_none());
        assert_eq!(lane.curve.last().unwrap().percentile, 100.0);
    }
    let [cached, direct] = &report.lanes[..] else { panic!("{report:?}") };
    // The one miss lay in the warm-up.
    assert_eq!((cached.figures.hit_ratio, cached.figures.origin_calls), (Some(1.0), 0));
    let direct_figures = &direct.figures;
    assert_eq!(
        (direct_figures.hit_ratio, direct_figures.origin_calls),
        (None, direct_figures.requests)
    );
    // The servers saw no fewer calls than were counted, and each lane read its own.
    assert!(cached_calls.load(Ordering::SeqCst) >= cached.figures.requests);
    assert!(direct_calls.load(Ordering::SeqCst) >= direct.figures.requests);
    assert!((1.9..3.0).contains(&report.measured_seconds), "{report:?}");
    assert_eq!((report.keys, report.errors.len(), report.stages.len()), (2, 0, 2));
    assert!(ended.doubts().is_empty(), "{:?}", report.doubts);
    let worker = &ended.updates.last().unwrap().workers[0];
    assert_eq!(worker.state, WorkerState::Done);
    assert!(worker.highest_per_second.unwrap() > 100.0, "{worker:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn errors_are_counted_by_kind_and_message_and_have_no_latency() {
    let problem =
        r#"{"type":"urn:verax:problem:overloaded","title":"T","status":503,"detail":"come back"}"#;
    let (verax, _) =
        server(move |_| async move { (StatusCode::SERVICE_UNAVAILABLE, problem).into_response() })
            .await;
    let (origin, _) = server(async |_| StatusCode::INTERNAL_SERVER_ERROR.into_response()).await;
    let ended = carry_out(plan(&verax, &origin, json!({ "duration_seconds": 1 }))).await;
    let report = ended.report();
    for lane in &report.lanes {
        let figures = &lane.figures;
        assert!(figures.errors > 0 && figures.errors == figures.requests, "{lane:?}");
        assert_eq!((figures.p50_ms, figures.hit_ratio, lane.corrected), (None, None, None));
    }
    assert_eq!(report.comparison().unwrap().times_faster_p50, None);
    let mut reasons: Vec<_> =
        report.errors.iter().map(|e| (e.lane.as_str(), e.kind, e.message.as_str())).collect();
    reasons.sort_unstable();
    let expected = [
        ("cached", ErrorKind::Refused, "come back"),
        ("direct", ErrorKind::Other, "the origin answered 500"),
    ];
    assert_eq!(reasons, expected);
    let counted: u64 = report.errors.iter().map(|errors| errors.count).sum();
    assert_eq!(counted, report.lanes.iter().map(|lane| lane.figures.errors).sum::<u64>());
    assert_eq!(ended.doubts(), ["nothing-read", "nothing-read"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stopped_run_reports_what_it_measured_so_far() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let plan = plan(&verax, &origin, json!({ "duration_seconds": 600 }));
    let ended = carry_out_seeing(plan, |progress, hands| {
        if progress.tick.is_some() {
            hands.stop.send_replace(true);
        }
    })
    .await;
    let report = ended.report();
    assert!(report.measured_seconds < 60.0, "{report:?}");
    assert!(report.lanes.iter().all(|lane| lane.figures.requests > 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn plans_that_cannot_be_run_say_why() {
    let mut nothing = plan("http://127.0.0.1:1", "http://127.0.0.1:1", json!({}));
    nothing.keys.clear();
    let error = carry_out(nothing).await.report.unwrap_err();
    assert!(error.contains("no keys"), "{error}");
    let mut refilled = plan("http://127.0.0.1:1", "http://127.0.0.1:1", json!({}));
    if let LaneTarget::Cache { refill, .. } = &mut refilled.lanes[0] {
        *refill = RefillBy::Permit;
    }
    let error = carry_out(refilled).await.report.unwrap_err();
    assert!(error.contains("no origin to refill from"), "{error}");
}

/// What an origin was scripted to do is what is reported: from when a request was due, a stall of
/// two seconds is visible in full, although hardly any request was sent during it.
#[tokio::test(flavor = "multi_thread")]
async fn a_stall_is_visible_in_full_in_an_open_loop() {
    let (verax, _) = server(async |_| hit()).await;
    let stalled_until: Arc<Mutex<Option<Instant>>> = Arc::default();
    let begin = Arc::new(Mutex::new(None));
    let (until, began) = (Arc::clone(&stalled_until), Arc::clone(&begin));
    // Two seconds after the first request, everything takes until two seconds later.
    let (origin, _) = server(move |_| {
        let first = *began.lock().unwrap().get_or_insert_with(Instant::now);
        let stall = first + Duration::from_secs(2);
        *until.lock().unwrap() = Some(stall + Duration::from_secs(2));
        async move {
            if Instant::now() >= stall {
                tokio::time::sleep_until((stall + Duration::from_secs(2)).into()).await;
            }
            board().await
        }
    })
    .await;
    let profile = json!({
        "duration_seconds": 6,
        // Few in flight, so that most of what is due in the stall is sent after it.
        "arrivals": { "rate": 100.0, "spacing": "even", "max_in_flight": 4 },
    });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    let direct = &ended.report().lanes[1];
    let figures = &direct.figures;
    // 600 requests were due, 200 of them during the stall, evenly between 0 and 2 s before its end.
    assert!((580..=602).contains(&figures.requests), "{figures:?}");
    assert!(figures.max_ms.unwrap() >= 1_950.0, "{figures:?}");
    assert!(figures.p90_ms.unwrap() >= 1_250.0, "{figures:?}");
    assert!(figures.p50_ms.unwrap() < 1_000.0, "{figures:?}");
    // From when they were sent, four requests alone took long: what is hidden without this.
    let from_send = direct.from_send.unwrap();
    assert!(from_send.p90_ms.unwrap() < figures.p90_ms.unwrap() / 2.0, "{from_send:?}");
    // Each second in which requests were due reports them when they end.
    assert!(stalled_until.lock().unwrap().is_some());
}

/// Percentiles are those that the origin was scripted to have.
#[tokio::test(flavor = "multi_thread")]
async fn scripted_latencies_are_reported() {
    let (verax, _) = server(async |_| hit()).await;
    // Nine of ten take 20 ms, one takes 200 ms.
    let (origin, _) = server(|n| async move {
        let ms = if n % 10 == 9 { 200 } else { 20 };
        tokio::time::sleep(Duration::from_millis(ms)).await;
        board().await
    })
    .await;
    let profile = json!({ "duration_seconds": 4, "arrivals": { "rate": 50.0 } });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    let figures = &ended.report().lanes[1].figures;
    // Never less than was scripted; more, on a machine that others use.
    let within = |ms: Option<f64>, scripted: f64| {
        let ms = ms.unwrap();
        ms >= scripted * 0.995 && ms < scripted + 2_000.0
    };
    assert!(within(figures.p50_ms, 20.0), "{figures:?}");
    assert!(within(figures.p99_ms, 200.0), "{figures:?}");
    assert!(figures.p50_ms.unwrap() < 150.0, "{figures:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn several_generators_share_a_run_and_their_counts_merge() {
    let (verax, cached_calls) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({
        "duration_seconds": 3, "arrivals": { "rate": 90.0, "spacing": "even" },
    });
    let mut plan = plan(&verax, &origin, profile);
    plan.workers = 3;
    let ended = carry_out(plan).await;
    let report = ended.report();
    // Together they have the rate of the profile.
    let cached = &report.lanes[0].figures;
    assert!((255..=271).contains(&cached.requests), "{cached:?}");
    assert_eq!(cached_calls.load(Ordering::SeqCst), cached.requests);
    assert_eq!(ended.updates.last().unwrap().workers.len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_generator_is_marked_and_the_run_goes_on() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let mut plan = plan(&verax, &origin, json!({ "duration_seconds": 3 }));
    plan.workers = 2;
    let ended = carry_out_seeing(plan, |progress, hands| {
        if progress.tick.is_some() {
            hands.generators.tasks.lock().unwrap()[1].abort();
        }
    })
    .await;
    assert_eq!(ended.doubts(), ["workers-lost"]);
    let last = ended.updates.last().unwrap();
    let states: Vec<_> = last.workers.iter().map(|worker| worker.state).collect();
    assert_eq!(states, [WorkerState::Done, WorkerState::Lost]);
    let marks: Vec<_> = ended.updates.iter().flat_map(|update| &update.marks).collect();
    assert!(marks.len() == 1 && marks[0].text.starts_with("generator 2 was lost"), "{marks:?}");
    let ticks: Vec<_> = ended.updates.iter().filter_map(|p| p.tick.as_ref()).collect();
    assert_eq!(ticks.len(), 3);
    assert!(ticks[2].lanes[0].requests > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_without_generators_fails() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let plan = plan(&verax, &origin, json!({ "duration_seconds": 600 }));
    let ended = carry_out_seeing(plan, |progress, hands| {
        // It has begun, and measured nothing yet.
        if progress.workers[0].state == WorkerState::Running {
            hands.generators.tasks.lock().unwrap()[0].abort();
        }
    })
    .await;
    match &ended.report {
        Err(error) => assert!(error.contains("lost before they measured"), "{error}"),
        // It was quicker than the test.
        Ok(_) => assert_eq!(ended.doubts(), ["workers-lost"]),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_load_follows_the_hands() {
    const SET: ChangedLevel = ChangedLevel { round: 0, stage: 0, level: 200.0 };
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({
        "arrivals": { "rate": 20.0, "spacing": "even" },
        "stages": [
            { "name": "one", "seconds": 3 },
            { "name": "two", "seconds": 1 },
            { "name": "three", "seconds": 2 },
        ],
    });
    let ended = carry_out_seeing(plan(&verax, &origin, profile), |progress, hands| {
        let Some(tick) = &progress.tick else { return };
        let seconds = tick.at_seconds.round() as u64;
        match seconds {
            1 => hands.steer.send_modify(|steering| steering.level = Some(SET)),
            // Pauses for what is left.
            4 => hands.steer.send_modify(|steering| steering.is_paused = true),
            _ => {}
        }
    })
    .await;
    let ticks: Vec<_> = ended.updates.iter().filter_map(|p| p.tick.as_ref()).collect();
    let counts: Vec<_> = ticks.iter().map(|tick| tick.lanes[0].requests).collect();
    assert!((15..=25).contains(&counts[0]), "{counts:?}");
    // Within the second in which it was changed, it was changed for most.
    assert!((120..=205).contains(&counts[1]) && (180..=220).contains(&counts[2]), "{counts:?}");
    // The level lasts until its stage ends.
    assert!((10..=45).contains(&counts[3]), "{counts:?}");
    assert!(counts[5] == 0, "{counts:?}");
    let levels: Vec<_> = ticks.iter().map(|tick| tick.level).collect();
    assert_eq!((levels[0], levels[2], levels[5]), (20.0, 200.0, 0.0));
}

#[tokio::test(flavor = "multi_thread")]
async fn instances_have_connections_of_their_own_and_as_many_clients_as_told() {
    let (verax, connections) = server_of_connections().await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({
        "arrivals": { "instances": 2, "clients_each": 3, "think_seconds": 0.05 },
        "steps": { "levels": [2, 5], "each_seconds": 1 },
    });
    let mut plan = plan(&verax, &origin, profile);
    // The instances are shared among generators.
    plan.workers = 2;
    let ended = carry_out(plan).await;
    let of = |step: usize| ended.report().stages[step].lanes[0].requests as f64;
    // Each client sends at most twenty requests per second.
    assert!(of(0) <= 6.0 * 21.0 && of(0) > 6.0 * 8.0, "{}", of(0));
    assert!((1.8..3.2).contains(&(of(1) / of(0))), "{} {}", of(0), of(1));
    // Clients of one instance share connections; those of five do not.
    let opened = connections.load(Ordering::SeqCst);
    assert!((5..=15).contains(&opened), "{opened}");
}

/// Reads at even distances: two of the first key, then one of the second, again and again.
fn recorded(reads: u32, millis: u32) -> RecordedReads {
    let read = |number| RecordedRead {
        at_millis: number * millis / reads,
        key: u32::from(number % 3 == 2),
    };
    let length = Duration::from_millis(millis.into());
    RecordedReads { length, reads: (0..reads).map(read).collect() }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recording_is_replayed_at_a_multiple_of_its_pace() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, calls) = server(|_| board()).await;
    let profile = json!({
        "arrivals": { "recording": 7 }, "popularity": "uniform",
        "stages": [
            { "name": "as it was", "seconds": 2 },
            { "name": "twice", "seconds": 2, "level": 2.0 },
            { "name": "ten times", "seconds": 1, "level": 10.0 },
        ],
    });
    let plan = RunPlan {
        recorded: Some(recorded(30, 1_000)),
        workers: 2,
        ..plan(&verax, &origin, profile)
    };
    let ended = carry_out(plan).await;
    let requests: Vec<u64> =
        ended.report().stages.iter().map(|stage| stage.lanes[1].requests).collect();
    // 30 reads a second, as they were recorded, again after each second.
    for (requests, expected) in requests.iter().zip([60_u64, 120, 300]) {
        assert!(requests.abs_diff(expected) <= 12, "{requests} of {expected}");
    }
    let total: u64 = requests.iter().sum();
    assert!(total.abs_diff(480) <= 6, "{total}");
    assert!(calls.load(Ordering::SeqCst) >= total);
}

#[tokio::test(flavor = "multi_thread")]
async fn without_its_recording_a_replay_cannot_begin() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({ "arrivals": { "recording": 7 }, "popularity": "uniform" });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    assert!(ended.report.unwrap_err().contains("no recording to replay"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_due_and_not_answered_is_counted() {
    // Ten requests a second at most.
    let (verax, _) = server(async |_| {
        tokio::time::sleep(Duration::from_secs(1)).await;
        hit()
    })
    .await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({
        "duration_seconds": 4,
        "arrivals": { "rate": 50.0, "spacing": "even", "max_in_flight": 10 },
    });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    let lanes = &ended.report().lanes;
    // Those of the last second may be on their way; of the 150 before, forty were answered.
    assert!((80..=130).contains(&lanes[0].unanswered), "{}", lanes[0].unanswered);
    assert_eq!(lanes[1].unanswered, 0);
    assert_eq!(ended.doubts(), ["unanswered"]);
}

/// A real generator, then one that says what it likes.
struct WithLiar {
    real: Tasks,
    started: AtomicU64,
    /// What it says first, and once it has begun.
    first: Vec<u8>,
    says: Vec<u8>,
}

const READY: &[u8] = b"{\"Ready\":{\"process\":1,\"highest_per_second\":[1.0,1.0]}}\n";

impl StartGenerator for WithLiar {
    fn start(&self) -> Starting {
        if self.started.fetch_add(1, Ordering::SeqCst) == 0 {
            return self.real.start();
        }
        let (first, says) = (self.first.clone(), self.says.clone());
        Box::pin(async move {
            let (conductor, liar) = tokio::io::duplex(1 << 16);
            tokio::spawn(async move {
                let (orders, mut reports) = tokio::io::split(liar);
                reports.write_all(&first).await.unwrap();
                if first.is_empty() {
                    return;
                }
                let mut orders = BufReader::new(orders).lines();
                while let Ok(Some(order)) = orders.next_line().await {
                    if order == "\"Begin\"" {
                        // It may be put out before it has said all.
                        let _ = reports.write_all(&says).await;
                    }
                }
            });
            let (reports, orders) = tokio::io::split(conductor);
            Ok(StartedGenerator {
                reports: Box::new(reports),
                orders: Box::new(orders),
                alive: Box::new(()),
                machine: Some("quay-9".to_owned()),
            })
        })
    }
}

fn said(change: impl FnOnce(&mut serde_json::Value)) -> Vec<u8> {
    let lane = serde_json::to_value(LaneRecorder::default().to_text()).unwrap();
    let mut tick = json!({
        "number": 0, "at_seconds": 1.0, "seconds": 1.0, "lanes": [lane, lane], "failures": [],
        "unanswered": [0, 0], "processors": 0.5, "memory_bytes": 1, "late_ms": 0.0,
    });
    change(&mut tick);
    format!("{}\n", json!({ "Tick": tick })).into_bytes()
}

#[rstest]
#[case::a_second_that_is_far_away(said(|tick| tick["number"] = 7_000.into()))]
#[case::too_few_lanes(said(|tick| drop(tick["lanes"].as_array_mut().unwrap().pop())))]
#[case::no_histogram(said(|tick| tick["lanes"][0]["response"] = "AAAA".into()))]
#[case::counts_that_do_not_add_up(said(|tick| tick["lanes"][0]["counts"]["hits"] = 9.into()))]
#[case::as_many_failures_as_there_are(
    said(|tick| tick["lanes"][0]["counts"]["failed"][0] = u64::MAX.into())
)]
#[case::a_lane_that_there_is_not(said(|tick| {
    tick["failures"] = json!([{ "lane": 7, "kind": "other", "message": "x", "count": 1 }]);
}))]
#[case::the_same_second_twice([said(|_| {}), said(|_| {})].concat())]
#[case::no_message(b"ahoy\n".to_vec())]
#[case::a_line_without_end(vec![b' '; 5 << 20])]
#[tokio::test(flavor = "multi_thread")]
async fn a_generator_that_reports_what_cannot_be_is_put_out(#[case] says: Vec<u8>) {
    let mark = goes_on_without_the_second(READY.to_vec(), says).await;
    assert!(mark.starts_with("generator 2 (quay-9) was lost: "), "{mark}");
}

#[rstest]
#[case::it_ends(Vec::new())]
#[case::it_cannot_read_its_lanes(b"{\"Failed\":\"no such file\"}\n".to_vec())]
#[case::a_rate_that_cannot_be(
    b"{\"Ready\":{\"process\":1,\"highest_per_second\":[1.0,-1.0]}}\n".to_vec()
)]
#[case::too_many_rates(
    b"{\"Ready\":{\"process\":1,\"highest_per_second\":[1.0,1.0,1.0]}}\n".to_vec()
)]
#[case::it_is_done_already(b"\"Done\"\n".to_vec())]
#[case::it_counts_already(said(|_| {}))]
#[case::no_message(b"ahoy\n".to_vec())]
#[tokio::test(flavor = "multi_thread")]
async fn a_run_begins_without_a_generator_that_is_lost_before(#[case] first: Vec<u8>) {
    let mark = goes_on_without_the_second(first, Vec::new()).await;
    assert!(mark.starts_with("generator 2 (quay-9) was lost before it began: "), "{mark}");
}

/// Carries a run out, which the second of its generators spoils; returns what is marked.
async fn goes_on_without_the_second(first: Vec<u8>, says: Vec<u8>) -> String {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({ "duration_seconds": 2, "arrivals": { "rate": 20.0 } });
    let plan = RunPlan { workers: 2, ..plan(&verax, &origin, profile) };
    let generators = WithLiar { real: Tasks::default(), started: AtomicU64::new(0), first, says };
    let (_steer, steering) = watch::channel(Steering::default());
    let (_stop, stopped) = watch::channel(false);
    let (workers, marks) = (Arc::new(Mutex::new(Vec::new())), Arc::new(Mutex::new(Vec::new())));
    let (seen, marked) = (Arc::clone(&workers), Arc::clone(&marks));
    let progress = move |progress: LoadProgress| {
        *seen.lock().unwrap() = progress.workers;
        marked.lock().unwrap().extend(progress.marks);
    };
    let report = conduct(plan, &generators, steering, stopped, progress).await.unwrap();
    assert!(report.doubts.iter().any(|doubt| doubt.kind == "workers-lost"), "{:?}", report.doubts);
    let states: Vec<_> = workers.lock().unwrap().iter().map(|worker| worker.state).collect();
    assert_eq!(states, [WorkerState::Done, WorkerState::Lost]);
    // What it said counts for nothing.
    assert!((5..=40).contains(&report.lanes[0].figures.requests), "{:?}", report.lanes[0].figures);
    marks.lock().unwrap()[0].text.clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_ends_early_by_its_limits() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(async |_| StatusCode::BAD_GATEWAY.into_response()).await;
    let profile = json!({
        "duration_seconds": 600, "arrivals": { "rate": 50.0 },
        "stop_when": { "error_percent": 50, "for_seconds": 2 },
    });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    assert!(ended.doubts().contains(&"ended-early"), "{:?}", ended.report().doubts);
    assert!((1.5..20.0).contains(&ended.report().measured_seconds));
    let marks: Vec<_> = ended.updates.iter().flat_map(|update| &update.marks).collect();
    assert!(
        marks[0].text.contains("100.0 % of the requests of the lane direct failed"),
        "{marks:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn goals_are_held_against_what_was_measured() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| async {
        tokio::time::sleep(Duration::from_millis(30)).await;
        board().await
    })
    .await;
    let goals = json!({ "duration_seconds": 1, "goals": [
        { "lane": "cached", "min_hit_percent": 99 },
        { "lane": "direct", "p50_ms": 1 },
    ] });
    let ended = carry_out(plan(&verax, &origin, goals)).await;
    let met: Vec<_> = ended.report().goals.iter().map(|goal| goal.is_met).collect();
    assert_eq!(met, [true, false], "{:?}", ended.report().goals);
}

#[tokio::test(flavor = "multi_thread")]
async fn lanes_can_take_turns() {
    let (verax, _) = server(async |_| hit()).await;
    let (origin, _) = server(|_| board()).await;
    let profile = json!({
        "order": "one-after-another", "warm_up_seconds": 1, "duration_seconds": 1,
    });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    let ticks: Vec<_> = ended.updates.iter().filter_map(|p| p.tick.as_ref()).collect();
    let counts: Vec<_> =
        ticks.iter().map(|tick| [tick.lanes[0].requests > 0, tick.lanes[1].requests > 0]).collect();
    assert_eq!(counts[..2], [[true, false]; 2]);
    // The last request of the lane before may end in the next tick.
    assert!(counts[2..].iter().all(|[_, direct]| *direct), "{counts:?}");
    let lanes = &ended.report().lanes;
    assert!(lanes.iter().all(|lane| lane.figures.requests > 0 && lane.warm_up.is_some()));
}

/// A system that serves four requests at a time bends at four clients.
#[tokio::test(flavor = "multi_thread")]
async fn the_knee_of_a_known_capacity_is_found() {
    let (verax, _) = server(async |_| hit()).await;
    let servers = Arc::new(tokio::sync::Semaphore::new(4));
    let (origin, _) = server(move |_| {
        let servers = Arc::clone(&servers);
        async move {
            let _one = servers.acquire().await.unwrap();
            tokio::time::sleep(Duration::from_millis(40)).await;
            board().await
        }
    })
    .await;
    let profile = json!({
        "order": "one-after-another", "arrivals": { "clients": 1, "think_seconds": 0.0 },
        "steps": { "levels": [1, 2, 4, 8, 16], "each_seconds": 2 },
    });
    let ended = carry_out(plan(&verax, &origin, profile)).await;
    let lane = &ended.report().lanes[1];
    let bend = lane.bend.unwrap();
    // Within one step, on a machine that others use.
    assert!((2.0..=8.0).contains(&bend.knee_level), "{bend:?}");
    assert!((50.0..=101.0).contains(&bend.knee_per_second), "{bend:?}");
    assert_eq!(bend.limit, verax_core::load::Limit::Saturated, "{bend:?}");
    // Four of 40 ms each: what the law levels off to, or has as its peak.
    let highest = bend.law.and_then(|law| law.peak_per_second);
    assert!(highest.is_none_or(|rate| (60.0..160.0).contains(&rate)), "{bend:?}");
    let stages: Vec<f64> = ended.report().stages.iter().map(|stage| stage.level).collect();
    assert_eq!(stages, [1.0, 2.0, 4.0, 8.0, 16.0]);
}
