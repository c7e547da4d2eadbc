//! The load lab as it is used: profiles of one's own, hands on an active run, generators that are
//! lost, limits and goals, files, baselines, and the lab in the console.

use nix::sys::signal::Signal;
use serde_json::{Value, json};
use thirtyfour::prelude::*;
use verax_api::{ChangeLoad, LoadRun, LoadWorker, TrafficRecording, WorkerState};
use verax_client::Cache;
use verax_e2e::{Browser, HeldOrigin, Verax, is_running, send, until, until_some};

/// A namespace over an origin that responds without delay.
async fn prepared(verax: &Verax) -> HeldOrigin {
    let origin = HeldOrigin::start("x").await;
    origin.let_go(10_000_000);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    let boards = ["namespace", "create", "ferrydesk/boards", "--origin", "desk"];
    verax.run(&[&boards[..], &["--max-age", "1h"]].concat()).done();
    origin
}

/// Writes a profile; returns the name of its file.
fn profile(verax: &Verax, name: &str, more: Value) -> String {
    let mut profile = json!({
        "name": name, "namespace": "ferrydesk/boards", "keys": [{ "list": ["a", "b"] }],
        "arrivals": { "rate": 40.0, "spacing": "even" }, "duration_seconds": 60,
    });
    profile.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    let path = verax.scratch(&format!("{name}.json"));
    std::fs::write(&path, profile.to_string()).unwrap();
    path.display().to_string()
}

/// Runs a command beside `meanwhile`.
async fn beside<T>(
    verax: &Verax,
    arguments: &[&str],
    meanwhile: impl AsyncFnOnce() -> T,
) -> (verax_e2e::Answer, T) {
    std::thread::scope(|scope| {
        let running = scope.spawn(|| verax.run(arguments));
        let done =
            tokio::task::block_in_place(|| tokio::runtime::Handle::current().block_on(meanwhile()));
        (running.join().unwrap(), done)
    })
}

/// The latest run, once it has measured for so many seconds.
async fn measured(verax: &Verax, seconds: usize) -> LoadRun {
    let client = verax.client();
    until_some("the run has measured", async || {
        let id = client.runs::<LoadRun>().await.ok()?.first()?.id;
        let run = client.load_run(id).await.ok()?;
        (run.ticks.len() >= seconds).then_some(run)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn hands_change_an_active_run_and_are_drawn_on_its_time_line() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let file = profile(&verax, "hands", json!({}));
    let (ran, ()) = beside(&verax, &["load", "run", &file], async || {
        let run = measured(&verax, 1).await.id.to_string();
        let changed = verax.run(&["load", "change", &run, "90"]).done();
        assert!(changed.contains("90 requests per second"), "{changed}");
        verax.run(&["load", "mark", &run, "the ferry leaves"]).done();
        verax.run(&["clear", "ferrydesk/boards", "--yes"]).done();
        let bypass = ["namespace", "bypass", "ferrydesk/boards", "--for", "1m"];
        verax.run(&bypass).done();
        verax.run(&["load", "pause", &run]).done();
        let id = run.parse().unwrap();
        until("nothing is sent", async || {
            let run = verax.client().load_run(id).await.unwrap();
            run.ticks.last().is_some_and(|tick| tick.level == 0.0 && tick.lanes[0].requests == 0)
        })
        .await;
        verax.run(&["load", "resume", &run]).done();
        until("it goes on at the changed rate", async || {
            let run = verax.client().load_run(id).await.unwrap();
            run.ticks.last().is_some_and(|tick| tick.level == 90.0 && tick.lanes[0].requests > 60)
        })
        .await;
        // What is out of range, empty, or of no run, changes nothing.
        assert_eq!(verax.run(&["load", "change", &run, "-1"]).code, 2);
        let far = ChangeLoad { level: Some(1e9), paused: None };
        assert!(verax.client().change_load_run(id, &far).await.is_err());
        assert_eq!(verax.run(&["load", "mark", &run, " "]).code, 4);
        assert_eq!(verax.run(&["load", "pause", "4711"]).code, 3);
        verax.run(&["load", "stop", &run]).done();
    })
    .await;
    assert_eq!(ran.code, 7, "{ran:?}");
    let run = measured(&verax, 1).await;
    let marks: Vec<&str> = run.marks.iter().map(|mark| mark.text.as_str()).collect();
    let expected = [
        "90 requests per second",
        "the ferry leaves",
        "cleared: 2 entries",
        "bypass on",
        "paused",
        "resumed",
    ];
    assert_eq!(marks, expected);
    // One that has ended takes no more.
    let id = run.id.to_string();
    assert_ne!(verax.run(&["load", "mark", &id, "too late"]).code, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_generator_that_is_killed_is_marked_and_the_run_goes_on() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let file = profile(&verax, "lost", json!({ "duration_seconds": 5 }));
    let run = ["load", "run", &file, "--workers", "2", "--json"];
    let (ran, ()) = beside(&verax, &run, async || {
        let run = measured(&verax, 1).await;
        let [_, LoadWorker { process: Some(process), state, .. }] = &run.workers[..] else {
            panic!("{:?}", run.workers)
        };
        assert_eq!(*state, WorkerState::Running);
        send(*process, Signal::SIGKILL);
    })
    .await;
    assert_eq!(ran.code, 6, "{ran:?}");
    assert!(ran.err.contains("1 of the workers that generated the load were lost"), "{}", ran.err);
    let run: LoadRun = serde_json::from_str(&ran.out).unwrap();
    assert_eq!((run.state.as_str(), run.ticks.len()), ("done", 5));
    assert_eq!(run.workers[1].state, WorkerState::Lost);
    assert!(run.marks[0].text.starts_with("generator 2 was lost"), "{:?}", run.marks);
    assert!(run.ticks[4].lanes[0].requests > 0, "the other one went on");
}

#[tokio::test(flavor = "multi_thread")]
async fn no_generator_outlives_a_service_that_is_killed() {
    let mut verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let file = profile(&verax, "orphan", json!({ "duration_seconds": 60 }));
    let (ran, run) = beside(&verax, &["load", "run", &file, "--workers", "2"], async || {
        let run = measured(&verax, 1).await;
        send(verax.process(), Signal::SIGKILL);
        run
    })
    .await;
    assert_ne!(ran.code, 0, "{ran:?}");
    verax.kill();
    for worker in run.workers {
        let process = worker.process.unwrap();
        until("the generator has ended", async || !is_running(process)).await;
    }
}

/// A worker that has joined, killed with this value.
struct JoinedWorker(std::process::Child);

impl JoinedWorker {
    fn start(verax: &Verax, name: &str, token: &str) -> Self {
        let mut command = std::process::Command::new(verax_e2e::program());
        command
            .args(["load", "worker", "--name", name, "--wire", verax.wire(), "--url", verax.url()])
            .env("VERAX_TOKEN", token)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::piped());
        Self(command.spawn().unwrap())
    }
}

impl Drop for JoinedWorker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn workers_of_other_machines_join_runs_and_can_be_put_out() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    verax.run(&["namespace", "create", "ferrydesk/notes"]).done();
    let file = profile(&verax, "joined", json!({ "duration_seconds": 4 }));
    let run = ["load", "run", &file, "--workers", "1", "--joined", "--json"];
    let refused = verax.run(&run);
    assert!(refused.code == 4 && refused.err.contains("verax load worker"), "{refused:?}");
    let token = |scope: &str| {
        let created = verax.run(&["token", "create", "--scope", scope]).done();
        created.trim().to_owned()
    };
    let (loader, foreign, reader) =
        (token("load:ferrydesk"), token("load:ferrydesk/notes"), token("read:ferrydesk"));
    // Reading is not enough, and another namespace's runs are not this worker's.
    let mut without = JoinedWorker::start(&verax, "reader", &reader);
    assert_eq!(without.0.wait().unwrap().code(), Some(4));
    let mut far = JoinedWorker::start(&verax, "quay-1", &loader);
    let gone = JoinedWorker::start(&verax, "quay-2", &loader);
    let _other = JoinedWorker::start(&verax, "shed", &foreign);
    let client = verax.client();
    let waiting = async |count: usize| {
        until("they wait", async || {
            let workers = client.joined_load_workers().await.unwrap();
            workers.iter().filter(|worker| !worker.is_busy).count() == count
        })
        .await;
    };
    waiting(3).await;
    // Whose runs a worker does not serve does not see it.
    let viewer = token("load:ferrydesk/boards");
    let seen = verax.run_with(&viewer, &["load", "workers"], b"").done();
    assert!(seen.contains("quay-1") && seen.contains("quay-2") && !seen.contains("shed"), "{seen}");

    // The token of a run that writes is not for a worker that may not write.
    let mix = json!({ "mix": { "put_percent": 5.0, "writes_allowed": true } });
    let writing = profile(&verax, "writing", mix);
    let refused = verax.run(&["load", "run", &writing, "--workers", "0", "--joined"]);
    assert!(refused.code == 4 && refused.err.contains("has the rights"), "{refused:?}");

    let (ran, ()) = beside(&verax, &run, async || {
        let run = measured(&verax, 1).await;
        let machines: Vec<_> = run.workers.iter().filter_map(|w| w.machine.as_deref()).collect();
        assert_eq!((run.workers.len(), machines.len()), (3, 2), "{machines:?}");
        // One of them is lost, and the run goes on.
        drop(gone);
    })
    .await;
    assert_eq!(ran.code, 6, "{ran:?}");
    let run: LoadRun = serde_json::from_str(&ran.out).unwrap();
    let states = |name: &str| {
        let of = |worker: &&LoadWorker| worker.machine.as_deref() == Some(name);
        run.workers.iter().find(of).map(|worker| worker.state)
    };
    assert_eq!(states("quay-1"), Some(WorkerState::Done));
    assert_eq!(states("quay-2"), Some(WorkerState::Lost));
    assert!(run.marks[0].text.contains("(quay-2) was lost"), "{:?}", run.marks);
    assert!(run.ticks.iter().all(|tick| tick.lanes[0].errors == 0));

    // The one that is left joins again; without its token it is put out.
    waiting(2).await;
    let tokens = client.tokens().await.unwrap();
    let scope = |text: &str| vec![text.to_owned()];
    let id = tokens.iter().find(|token| token.scopes == scope("load:ferrydesk")).unwrap().id;
    client.revoke_token(id).await.unwrap();
    waiting(1).await;
    assert_eq!(far.0.wait().unwrap().code(), Some(4));
}

/// Records ninety reads of two keys.
async fn record(verax: &Verax, cache: &Cache, flags: &[&str]) -> TrafficRecording {
    let start = ["load", "recording", "start", "ferrydesk/boards", "--for", "30s", "--json"];
    let (recorded, ()) = beside(verax, &[&start[..], flags].concat(), async || {
        let running = async || {
            let all = verax.client().runs::<TrafficRecording>().await.ok()?;
            all.into_iter().find(|recording| recording.state == "running")
        };
        let id = until_some("it records", running).await.id;
        // Twice as many reads of one key as of the other.
        for key in ["a", "b", "a"].into_iter().cycle().take(90) {
            cache.get(key).await.unwrap();
        }
        until("they are recorded", async || {
            running().await.is_some_and(|recording| recording.reads == 90)
        })
        .await;
        // Somebody else's recording of the namespace is refused meanwhile.
        let second = verax.run(&[&start[..], flags].concat());
        assert!(second.err.contains("is being recorded"), "{second:?}");
        verax.run(&["load", "recording", "stop", &id.to_string()]).done();
    })
    .await;
    serde_json::from_str::<TrafficRecording>(&recorded.out).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn traffic_is_recorded_and_replayed_faster() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let cache = verax.client().cache("ferrydesk", "boards", Default::default()).unwrap();
    let plain = record(&verax, &cache, &[]).await;
    let hashed = record(&verax, &cache, &["--hash-keys"]).await;
    for recording in [&plain, &hashed] {
        assert_eq!((recording.reads, recording.keys, recording.missed), (90, 2, 0));
        assert_eq!(recording.state, "stopped");
    }
    let listed = verax.run(&["load", "recording", "list"]).done();
    assert!(listed.contains("hashed") && listed.contains("plain"), "{listed}");

    let replay = |recording: u64, more: Value| {
        let mut profile = json!({
            "keys": [], "arrivals": { "recording": recording }, "duration_seconds": 4,
            "stages": [
                { "name": "once", "seconds": 2 }, { "name": "ten times", "seconds": 2, "level": 10 },
            ],
        });
        profile.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        profile
    };
    let ran = verax.run(&[
        "load",
        "run",
        &profile(&verax, "replay", replay(plain.id, json!({}))),
        "--json",
    ]);
    let run: LoadRun = serde_json::from_str(&ran.out).unwrap();
    let report = run.report.unwrap();
    assert_eq!(report.keys, 2);
    let requests: Vec<f64> =
        report.stages.iter().map(|stage| stage.lanes[0].requests as f64).collect();
    // A busy machine may miss ten times the pace, but exceeds the recorded one.
    assert!(requests[0] >= 90.0 && requests[1] > 1.5 * requests[0], "{requests:?}");

    // Hashed keys cannot be read; others stand in for them.
    let hidden = profile(&verax, "hidden", replay(hashed.id, json!({})));
    let refused = verax.run(&["load", "run", &hidden]);
    assert!(refused.code == 4 && refused.err.contains("has hashed keys"), "{refused:?}");
    let few = json!({ "keys": [{ "list": ["x"] }] });
    let few = profile(&verax, "few", replay(hashed.id, few));
    let refused = verax.run(&["load", "run", &few]);
    assert!(refused.code == 4 && refused.err.contains("fewer than the 2"), "{refused:?}");
    let others = json!({ "keys": [{ "list": ["x", "y", "z"] }] });
    let others = profile(&verax, "others", replay(hashed.id, others));
    let ran = verax.run(&["load", "run", &others, "--json"]);
    let run: LoadRun = serde_json::from_str(&ran.out).unwrap();
    assert_eq!(run.state, "done", "{:?}", run.reason);

    // Who may not load the namespace does not learn of its recordings.
    verax.run(&["tenant", "create", "tideline"]).done();
    let token = verax.run(&["token", "create", "--scope", "load:tideline"]).done();
    let one = ["load", "recording", "show", &plain.id.to_string()];
    assert_eq!(verax.run_with(token.trim(), &one, b"").code, 3);
    let none = verax.run_with(token.trim(), &["load", "recording", "list", "--json"], b"").json();
    assert_eq!(none, json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scheduled_run_may_do_what_its_profile_says() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let mix = json!({ "mix": { "invalidate_percent": 10.0, "put_percent": 10.0, "writes_allowed": true } });
    let mut more = json!({ "duration_seconds": 1 });
    more.as_object_mut().unwrap().extend(mix.as_object().unwrap().clone());
    verax.run(&["load", "profile", "store", &profile(&verax, "nightly", more)]).done();
    let set = ["schedule", "set", "ferrydesk/nightly", "--load-profile", "nightly"];
    let set = [&set[..], &["--cron", "0 3 * * *"]].concat();
    // Who sets the schedule must hold what it does.
    let token = verax.run(&["token", "create", "--scope", "load:ferrydesk"]).done();
    let refused = verax.run_with(token.trim(), &set, b"");
    assert!(refused.code == 4 && refused.err.contains("write:ferrydesk/boards"), "{refused:?}");
    verax.run(&set).done();
    let started = verax.run(&["schedule", "run", "ferrydesk/nightly"]).done();
    assert!(!started.contains("failed"), "{started}");
    let client = verax.client();
    let run = until_some("the run has ended", async || {
        let run = client.runs::<LoadRun>().await.ok()?.into_iter().next()?;
        (run.state != "running").then_some(run)
    })
    .await;
    assert_eq!(run.state, "done", "{:?}", run.reason);
    assert!(run.report.unwrap().lanes[0].figures.writes > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn limits_end_a_run_and_missed_goals_have_an_exit_code_of_their_own() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let limited = profile(&verax, "limited", json!({ "stop_when": { "requests": 100 } }));
    let ran = verax.run(&["load", "run", &limited]);
    assert_eq!(ran.code, 6, "{ran:?}");
    assert!(ran.err.contains("ended early: the limit of 100 requests was reached"), "{}", ran.err);
    let goals = json!({ "duration_seconds": 2, "goals": [
        { "lane": "cached", "error_percent": 0 },
        { "lane": "direct", "min_per_second": 1_000 },
    ] });
    let ran = verax.run(&["load", "run", &profile(&verax, "goals", goals)]);
    // A busy host may disturb any run.
    assert!(ran.code == 8 || ran.err.contains("disturbed"), "{ran:?}");
    assert!(ran.out.contains("met: cached errors at most 0 %"), "{}", ran.out);
    assert!(ran.out.contains("missed: direct throughput at least 1000/s"), "{}", ran.out);
    // Requests on other machines need the leave of whoever runs the service.
    verax.run(&["origin", "create", "ferrydesk/far", "--at", "http://192.0.2.1/{key}"]).done();
    let lanes = json!({ "lanes": [
        { "name": "cached", "reads": "cache" },
        { "name": "far", "reads": "origin", "origin": "far" },
    ] });
    let ran = verax.run(&["load", "run", &profile(&verax, "far", lanes)]);
    assert_eq!(ran.code, 4, "{ran:?}");
    assert!(ran.err.contains("on 192.0.2.1, which load runs may not read"), "{}", ran.err);
    // Nor does a lane reach them by reading a namespace through.
    let distant = ["namespace", "create", "ferrydesk/distant", "--origin", "far"];
    verax.run(&distant).done();
    let through = json!({ "namespace": "ferrydesk/distant", "lanes": [
        { "name": "cached", "reads": "cache" },
        { "name": "near", "reads": "origin", "origin": "desk" },
    ] });
    let ran = verax.run(&["load", "run", &profile(&verax, "through", through)]);
    assert_eq!(ran.code, 4, "{ran:?}");
    assert!(ran.err.contains("on 192.0.2.1, which load runs may not read"), "{}", ran.err);
}

/// Exports run 2 in every form, and imports it as run 3.
async fn a_copy_leaves_and_comes_back(verax: &Verax) {
    let json = verax.scratch("run.json").display().to_string();
    verax.run(&["load", "export", "2", "--output", &json]).done();
    let csv = verax.run(&["load", "export", "2", "--form", "csv"]).done();
    // Ten seconds of two lanes, and the titles.
    assert_eq!(csv.lines().count(), 21, "{csv}");
    let log = verax.run(&["load", "export", "2", "--form", "histogram-log"]).done();
    let intervals = log.lines().filter(|line| line.starts_with("Tag=cached,")).count();
    assert_eq!(intervals, 10, "{log}");
    let page = verax.run(&["load", "export", "2", "--form", "html"]).done();
    assert!(
        page.contains("\"name\":\"my-profile\"") && !page.contains("src=\"/"),
        "{}",
        page.len()
    );
    let kept = verax.run(&["load", "import", &json]).done();
    assert!(kept.contains("kept as load run 3"), "{kept}");
    let (original, copy) =
        (verax.client().load_run(2).await.unwrap(), verax.client().load_run(3).await.unwrap());
    assert!(copy.is_imported && !original.is_imported);
    assert_eq!((&copy.report, &copy.ticks), (&original.report, &original.ticks));
    let log_of_copy = verax.run(&["load", "export", "3", "--form", "histogram-log"]).done();
    let of = |log: &str| log.lines().filter(|l| l.starts_with("Tag=")).map(str::to_owned).collect();
    let (original, copied): (Vec<_>, Vec<_>) = (of(&log), of(&log_of_copy));
    assert_eq!(original, copied, "the histograms are exactly the same");
    // What is no run, or another format, is refused and keeps nothing.
    let text = std::fs::read_to_string(&json).unwrap();
    for (damaged, code) in [
        (text.replacen("\"verax_load_run\":1", "\"verax_load_run\":2", 1), 4),
        (text.replacen("\"state\":\"done\"", "\"state\":\"running\"", 1), 4),
        (text[..text.len() / 2].to_owned(), 2),
    ] {
        std::fs::write(&json, damaged).unwrap();
        assert_eq!(verax.run(&["load", "import", &json]).code, code);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_profile_of_ones_own_takes_init_check_store_and_run() {
    let verax = Verax::ephemeral(&[]);
    let _origin = prepared(&verax).await;
    let file = verax.scratch("mine.toml").display().to_string();
    verax.run(&["load", "profile", "init", &file, "ferrydesk/boards"]).done();
    assert_eq!(verax.run(&["load", "profile", "init", &file, "a/b"]).code, 4, "it is not replaced");
    verax.run(&["load", "profile", "check", &file]).done();
    let text = std::fs::read_to_string(&file).unwrap();
    let short = text.replace("duration_seconds = 20", "duration_seconds = 9");
    let short = short.replace("warm_up_seconds = 3", "warm_up_seconds = 1");
    let short = short.replace("clients = 4   ", "clients = 1\nthink_seconds = 0.005 # ");
    std::fs::write(&file, short).unwrap();
    verax.run(&["load", "profile", "store", &file]).done();
    let listed = verax.run(&["load", "profile", "list"]).done();
    assert!(listed.contains("my-profile") && listed.contains("stored"), "{listed}");
    let shown = verax.run(&["load", "profile", "show", "ferrydesk/my-profile"]).done();
    let again = verax.scratch("again.toml").display().to_string();
    std::fs::write(&again, &shown).unwrap();
    verax.run(&["load", "profile", "check", &again]).done();
    // What is wrong is said with its place.
    std::fs::write(&again, shown.replace("clients = 1", "clients = 0")).unwrap();
    let wrong = verax.run(&["load", "profile", "check", &again]);
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("again.toml:") && wrong.err.contains("clients = 0"), "{wrong:?}");

    // Two runs of it, compared with each other and with the baseline.
    for _ in 0..2 {
        let ran = verax.run(&["load", "run", "my-profile"]);
        assert!(ran.code == 0 || ran.err.contains("not comparable"), "{ran:?}");
        let baseline = ["load", "profile", "baseline", "ferrydesk/my-profile", "1"];
        verax.run(&baseline).done();
    }
    let compared = verax.run(&["load", "compare", "1", "2"]).done();
    assert!(compared.contains("throughput") && compared.contains("run 2"), "{compared}");
    let shown = verax.run(&["load", "show", "2"]).done();
    assert!(shown.contains("baseline, run 1"), "{shown}");
    a_copy_leaves_and_comes_back(&verax).await;
    assert_eq!(verax.client().runs::<LoadRun>().await.unwrap().len(), 3);
    verax.run(&["load", "profile", "delete", "ferrydesk/my-profile"]).done();
    assert!(!verax.run(&["load", "profile", "list"]).done().contains("my-profile"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_lab_in_the_console_has_hands_profiles_and_comparisons() {
    let verax = Verax::demo(&["--no-traffic"]);
    let browser = Browser::start().await;
    let page = &browser.page;
    page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    page.goto(format!("{}/load", verax.url())).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Not measured yet").await;

    // A profile is made from a shipped one; what is wrong in its text is said with its place.
    browser.click(By::Css("option[value='ferrydesk/quick-look']")).await;
    browser.click(By::Css("button[aria-label='New profile from this one']")).await;
    let text = page.query(By::Css("dialog[open] textarea")).first().await.unwrap();
    let toml = text.prop("value").await.unwrap().unwrap();
    let longer = toml.replace("duration_seconds = 4", "duration_seconds = 40");
    let write = async |toml: &str| {
        text.clear().await.unwrap();
        text.send_keys(toml).await.unwrap();
        browser.click(By::XPath("//dialog[@open]//button[contains(., 'Store')]")).await;
    };
    write("name = \n").await;
    browser.text_when("dialog[open] [role=alert]", |text| text.contains("Line 1, column")).await;
    write(&longer).await;
    browser.click(By::Css("option[value='ferrydesk/quick-look-2']")).await;

    // Hands while it runs.
    browser.click(By::XPath("//button[contains(., 'Start the run')]")).await;
    browser.text_when("[data-run-state]", |text| text.contains("running")).await;
    let level = page.query(By::Css("input[type=number]")).first().await.unwrap();
    level.send_keys("6").await.unwrap();
    browser.click(By::XPath("//button[normalize-space()='Set']")).await;
    let note = page.query(By::Css("input[maxlength='80']")).first().await.unwrap();
    note.send_keys("rush begins").await.unwrap();
    browser.click(By::XPath("//button[contains(., 'Mark')]")).await;
    browser.click(By::XPath("//button[contains(., 'Clear ferrydesk/boards')]")).await;
    browser.click(By::XPath("//button[contains(., 'Slow the stand-in')]")).await;
    browser.click(By::XPath("//button[contains(., 'Stand-in as fast as before')]")).await;
    browser.click(By::XPath("//button[contains(., 'Pause')]")).await;
    browser.text_when("[data-run-state]", |text| text.contains("paused")).await;
    browser.click(By::XPath("//button[contains(., 'Resume')]")).await;
    let client = verax.client();
    let run = until_some("all hands are on the time line", async || {
        let run = client.runs::<LoadRun>().await.ok()?.into_iter().next()?;
        (run.marks.len() >= 7).then_some(run)
    })
    .await;
    let marks: Vec<&str> = run.marks.iter().map(|mark| mark.text.as_str()).collect();
    assert_eq!(marks[..2], ["6 clients", "rush begins"], "{marks:?}");
    assert!(marks[2].starts_with("cleared: "), "{marks:?}");
    let rest = ["stand-in: +300 ms", "stand-in: +0 ms", "paused", "resumed"];
    assert_eq!(marks[3..], rest, "{marks:?}");
    browser.click(By::XPath("//button[contains(., 'Stop the run')]")).await;
    browser.text_when("[data-answer]", |text| text == "Not comparable").await;
    browser.text_when("[data-doubt=stopped]", |text| text.contains("stopped before its end")).await;

    // A second run, and both over each other.
    browser.click(By::Css("option[value='ferrydesk/quick-look']")).await;
    browser.click(By::XPath("//button[contains(., 'Start the run')]")).await;
    browser.text_when("[data-run-state]", |text| text.contains("done")).await;
    browser.click(By::XPath("//button[contains(., 'Compare')]")).await;
    browser
        .text_when("[data-overlay]", |text| {
            text.contains("no difference") || text.contains("seconds")
        })
        .await;
    browser.click(By::XPath("//button[contains(., 'Use as the baseline')]")).await;
    browser.click(By::XPath("//button[contains(., 'No baseline')]")).await;
    browser.assert_accessible("the load page with a comparison").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_records_traffic_and_replays_it_with_workers_that_joined() {
    let verax = Verax::demo(&["--no-traffic"]);
    let _worker = JoinedWorker::start(&verax, "quay-1", &verax.token());
    let browser = Browser::start().await;
    let page = &browser.page;
    page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    let client = verax.client();
    until("the worker has joined", async || client.joined_load_workers().await.unwrap().len() == 1)
        .await;
    page.goto(format!("{}/load", verax.url())).await.unwrap();

    browser.click(By::XPath("//button[contains(., 'Record traffic')]")).await;
    browser.click(By::XPath("//dialog[@open]//option[.='ferrydesk/boards']")).await;
    browser.click(By::XPath("//dialog[@open]//button[.='Record']")).await;
    browser.text_when("[data-recording][data-state=running]", |text| text.contains("boards")).await;
    let boards = client.cache("ferrydesk", "boards", Default::default()).unwrap();
    for key in ["board/aldermouth", "board/brinewick"].into_iter().cycle().take(40) {
        boards.get(key).await.unwrap();
    }
    browser.text_when("[data-recording] td:nth-of-type(5)", |text| text == "40").await;
    browser.click(By::XPath("//tr[@data-recording]//button[contains(., 'Stop')]")).await;
    browser.text_when("[data-recording][data-state=stopped]", |text| text.contains("plain")).await;

    browser.click(By::XPath("//button[contains(., 'Replay')]")).await;
    let text = page.query(By::Css("dialog[open] textarea")).first().await.unwrap();
    let toml = text.prop("value").await.unwrap().unwrap();
    assert!(toml.contains("recording = 1") && toml.contains("speed = 1"), "{toml}");
    text.clear().await.unwrap();
    let name = "name = \"replay-of-recording-1\"\nduration_seconds = 3";
    text.send_keys(toml.replace("name = \"replay-of-recording-1\"", name)).await.unwrap();
    browser.click(By::XPath("//dialog[@open]//button[contains(., 'Store')]")).await;
    browser.click(By::Css("option[value='ferrydesk/replay-of-recording-1']")).await;
    browser.click(By::Css("input[type=checkbox]")).await;
    browser.click(By::XPath("//button[contains(., 'Start the run')]")).await;
    browser.text_when("[data-run-state]", |text| text.contains("done")).await;
    let run = client.runs::<LoadRun>().await.unwrap().remove(0);
    let machines: Vec<_> = run.workers.iter().map(|worker| worker.machine.as_deref()).collect();
    assert_eq!(machines, [Some("quay-1"), None]);
    assert_eq!(run.report.unwrap().keys, 2);
    browser.assert_accessible("the load page with recordings").await;
}
