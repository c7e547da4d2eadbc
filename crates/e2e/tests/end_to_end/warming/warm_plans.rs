//! Warm plans and warm runs, as people and programs use them.

use serde_json::{Value, json};
use verax_api::{CreateNamespace, CreateOrigin, GuardChange, OriginChoice, PolicyChange, WarmRun};
use verax_client::{Client, Namespace, Source};
use verax_e2e::{HeldOrigin, Verax, until, until_some};

/// Creates a namespace over an origin that holds its calls.
async fn boards(verax: &Client, at: &str, max_concurrency: u32) -> Namespace {
    verax.create_tenant("ferrydesk").await.unwrap();
    let guard = GuardChange { max_concurrency: Some(max_concurrency), ..Default::default() };
    let origin = CreateOrigin {
        name: "desk".into(),
        url: at.to_owned(),
        guard: Some(guard),
        total_timeout_ms: Some(60_000),
        ..Default::default()
    };
    verax.create_origin("ferrydesk", &origin).await.unwrap();
    let policy = PolicyChange {
        origin: Some(Some(OriginChoice { name: "desk".into(), key_pattern: None })),
        max_age_seconds: Some(600.0),
        ..Default::default()
    };
    let namespace = CreateNamespace { name: "boards".into(), policy };
    verax.create_namespace("ferrydesk", &namespace).await.unwrap();
    verax.namespace("ferrydesk", "boards").unwrap()
}

/// Options that name some keys.
fn keys(count: usize) -> Vec<String> {
    (0..count).flat_map(|n| ["--key".to_owned(), format!("k{n}")]).collect()
}

fn fill<'a>(named: &'a [String], more: &[&'a str]) -> Vec<&'a str> {
    let mut arguments = vec!["warm", "fill", "ferrydesk/boards"];
    arguments.extend(named.iter().map(String::as_str));
    arguments.extend(more);
    arguments
}

/// Starts a run, and returns its number.
fn start(verax: &Verax, named: &[String], more: &[&str]) -> u64 {
    let mut more = more.to_vec();
    more.extend(["--no-wait", "--json"]);
    verax.run(&fill(named, &more)).json()["id"].as_u64().unwrap()
}

async fn run_when(
    client: &Client,
    id: u64,
    what: &str,
    holds: impl Fn(&WarmRun) -> bool,
) -> WarmRun {
    until_some(what, async || client.warm_run(id).await.ok().filter(|run| holds(run))).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_run_resumes_and_fills_again_what_was_lost() {
    let origin = HeldOrigin::start("late ferry").await;
    let verax = Verax::serve(&[]);
    boards(&verax.client(), &origin.at(), 16).await;
    let id = start(&verax, &keys(30), &["--concurrency", "3"]);
    origin.let_go(10);
    run_when(&verax.client(), id, "ten keys are warm", |run| run.stored >= 10).await;

    let verax = verax.kill_and_restart();
    let client = verax.client();
    let resumed = run_when(&client, id, "the run goes on", |run| run.resumed == 1).await;
    assert_eq!((resumed.state.as_str(), resumed.keys), ("running", 30));
    origin.let_go(1_000);
    let ended = run_when(&client, id, "the run ends", |run| run.state != "running").await;
    assert_eq!((ended.state.as_str(), ended.stored, ended.failed), ("done", 30, 0), "{ended:?}");
    // Entries end with the process, so those of before were filled again.
    let boards = client.namespace("ferrydesk", "boards").unwrap();
    for n in 0..30 {
        let found = boards.get(&format!("k{n}")).await.unwrap().unwrap();
        assert_eq!(found.source, Source::Hit, "k{n}");
    }
    assert!(verax.run(&["warm", "show", &id.to_string()]).done().contains("after 1 restart"));
    // An orderly stop is no end either.
    let id = start(&verax, &keys(3_000), &["--max-per-second", "20"]);
    run_when(&client, id, "some keys are warm", |run| run.stored > 0).await;
    let verax = verax.restart();
    let going = run_when(&verax.client(), id, "the run goes on", |run| run.resumed == 1).await;
    assert_eq!(going.state, "running");
    verax.run(&["warm", "stop", &id.to_string()]).done();
    run_when(&verax.client(), id, "the run is stopped", |run| run.state == "stopped").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn readers_come_before_warming() {
    let origin = HeldOrigin::start("berth 4").await;
    let verax = Verax::ephemeral(&[]);
    let client = verax.client();
    let boards = boards(&client, &origin.at(), 2).await;
    let id = start(&verax, &keys(5), &["--concurrency", "4", "--origin-share", "100"]);
    until("the run reads the origin", async || origin.calls() == 1).await;
    // The last free place is a reader's.
    let reading = {
        let boards = boards.clone();
        tokio::spawn(async move { boards.get("live").await })
    };
    until("a reader reads the origin", async || origin.calls() == 2).await;
    origin.let_go(6);
    assert!(reading.await.unwrap().unwrap().is_some());
    let ended = run_when(&client, id, "the run ends", |run| run.state == "done").await;
    assert_eq!(ended.stored, 5);
    assert!(ended.origin_concurrency <= 1.05, "{ended:?}");

    // Refreshing keeps the old copy readable.
    let id = start(&verax, &keys(5), &[]);
    until("the refresh reads the origin", async || origin.calls() == 7).await;
    assert_eq!(boards.get("k0").await.unwrap().unwrap().source, Source::Hit);
    origin.let_go(5);
    run_when(&client, id, "the refresh ends", |run| run.stored == 5).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_fresh_takes_no_part_of_the_rate() {
    let verax = Verax::ephemeral(&[]);
    let origin = HeldOrigin::start("07:10").await;
    origin.let_go(1_000);
    boards(&verax.client(), &origin.at(), 4).await;
    let named = keys(30);
    verax.run(&fill(&named, &[])).done();
    // At one key in two seconds, thirty would take a minute.
    let slow = ["--skip-fresh", "--max-per-second", "0.5", "--deadline", "20s", "--json"];
    let run = verax.run(&fill(&named, &slow)).json();
    assert_eq!((&run["state"], &run["skipped"]), (&"done".into(), &30.into()), "{run}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_single_place_is_left_to_readers() {
    let verax = Verax::ephemeral(&[]);
    boards(&verax.client(), "http://127.0.0.1:1/{key}", 1).await;
    let refused = verax.run(&fill(&keys(1), &[]));
    assert_eq!(refused.code, 4);
    assert!(refused.err.contains("raise its max concurrency"), "{refused:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_pauses_goes_on_and_stops_with_exit_codes_of_their_own() {
    let origin = HeldOrigin::start("late ferry").await;
    let verax = Verax::ephemeral(&[]);
    let client = verax.client();
    boards(&client, &origin.at(), 16).await;
    origin.let_go(5);
    let id = start(&verax, &keys(20), &["--concurrency", "1"]);
    run_when(&client, id, "five keys are warm", |run| run.stored == 5).await;
    assert_eq!(client.pause_warm_run(id, true).await.unwrap().id, id);
    run_when(&client, id, "it pauses", |run| run.phase == "paused").await;
    // The refill in flight ends, and no other begins.
    origin.let_go(1);
    let paused = run_when(&client, id, "the sixth is warm", |run| run.stored == 6).await;
    assert_eq!((paused.phase.as_str(), origin.calls()), ("paused", 6));
    client.pause_warm_run(id, false).await.unwrap();
    until("the seventh is read", async || origin.calls() == 7).await;
    verax.run(&["warm", "stop", &id.to_string()]).done();
    origin.let_go(1);
    run_when(&client, id, "it is stopped", |run| run.state == "stopped").await;
    let followed = verax.run(&["warm", "follow", &id.to_string()]);
    assert_eq!(followed.code, 7, "{followed:?}");
    assert!(followed.out.contains("warmed 7 of 20 keys"), "{followed:?}");

    // A deadline ends a run that pauses, too.
    let id = start(&verax, &keys(20), &["--concurrency", "1", "--deadline", "1s"]);
    client.pause_warm_run(id, true).await.unwrap();
    origin.let_go(1);
    let late = run_when(&client, id, "its deadline ends it", |run| run.state == "failed").await;
    assert!(late.reason.as_ref().unwrap().contains("deadline of 1 s"), "{late:?}");

    // Some keys that fail, all that are fresh, and one too many failures.
    let change = ["origin", "change", "ferrydesk/desk", "--at", "http://127.0.0.1:1/{key}"];
    verax.run(&change).done();
    let partial = verax.run(&fill(&keys(3), &["--retries", "0"]));
    assert_eq!(partial.code, 6, "{partial:?}");
    assert!(partial.err.contains("3 of 3 keys were not warmed"), "{partial:?}");
    let fresh = verax.run(&fill(&keys(3), &["--skip-fresh"]));
    assert_eq!((fresh.code, fresh.out.contains("3 fresh already")), (0, true), "{fresh:?}");
    let many: Vec<String> = keys(200);
    let limited =
        verax.run(&fill(&many, &["--retries", "0", "--tolerate", "5", "--concurrency", "1"]));
    assert_eq!(limited.code, 6);
    assert!(limited.err.contains("more than 5 keys failed"), "{limited:?}");
    let id = verax.run(&["warm", "list", "--json"]).json()[0]["id"].to_string();
    let shown = verax.run(&["warm", "show", &id]).done();
    assert!(
        shown.contains("6 keys failed with connect") || shown.contains("circuit-open"),
        "{shown}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn plans_are_kept_run_and_exchanged_as_files() {
    let origin = HeldOrigin::start("late ferry").await;
    let verax = Verax::ephemeral(&[]);
    let client = verax.client();
    boards(&client, &origin.at(), 16).await;
    let plan = "ferrydesk/mornings";
    let set = [
        "warm",
        "plan",
        "set",
        plan,
        "--namespace",
        "boards",
        "--values",
        "key=a,b,c",
        "--key",
        "b",
        "--order",
        "hottest-first",
        "--note",
        "before the first ferry",
    ];
    verax.run(&set).done();
    let file = verax.scratch("plans.toml");
    std::fs::write(&file, verax.run(&["warm", "plan", "export"]).done()).unwrap();
    let path = file.display().to_string();
    let same = verax.run(&["warm", "plan", "import", &path]).done();
    assert!(same.contains("nothing to change"), "{same}");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, text.replace("hottest-first", "given").replace("mornings", "evenings"))
        .unwrap();
    let would = verax.run(&["warm", "plan", "import", &path, "--dry-run"]).done();
    assert!(would.contains("create") && would.contains("ferrydesk/evenings"), "{would}");
    assert_eq!(client.warm_plans(None).await.unwrap().len(), 1);
    let unasked = verax.run(&["warm", "plan", "import", &path]);
    assert_eq!((unasked.code, unasked.err.contains("--yes")), (2, true), "{unasked:?}");
    verax.run(&["warm", "plan", "import", &path, "--yes"]).done();
    assert_eq!(client.warm_plans(Some("ferrydesk")).await.unwrap().len(), 2);
    // A mistake is shown where it is.
    std::fs::write(
        &file,
        "[plans.\"ferrydesk/x\"]\nnamespace = \"boards\"\nkeys = []\nspeed = 3\n",
    )
    .unwrap();
    let wrong = verax.run(&["warm", "plan", "import", &path]);
    assert_eq!(wrong.code, 2);
    assert!(wrong.err.contains("line 4") && wrong.err.contains("speed"), "{wrong:?}");

    let estimate = verax.run(&["warm", "run", plan, "--dry-run", "--json"]).json();
    assert_eq!((&estimate["keys"], &estimate["refills"]), (&json!(3), &json!(3)), "{estimate}");
    assert_eq!(origin.calls(), 0);
    let first = verax.run(&["warm", "run", plan, "--no-wait", "--json"]).json();
    until("the run reads the origin", async || origin.calls() == 3).await;
    let second = verax.run(&["warm", "run", plan, "--no-wait"]);
    assert_eq!((second.code, second.err.contains("is active")), (4, true), "{second:?}");
    let joined =
        verax.run(&["warm", "run", plan, "--overlap", "join", "--no-wait", "--json"]).json();
    assert_eq!(joined["id"], first["id"]);
    let queued =
        verax.run(&["warm", "run", plan, "--overlap", "queue", "--no-wait", "--json"]).json();
    assert_eq!((&queued["phase"], queued["id"] != first["id"]), (&json!("queued"), true));
    let third = verax.run(&["warm", "run", plan, "--overlap", "queue", "--no-wait"]);
    assert_eq!((third.code, third.err.contains("waits already")), (4, true), "{third:?}");
    origin.let_go(6);
    let id = queued["id"].as_u64().unwrap();
    let ended = run_when(&client, id, "the queued run ends", |run| run.state == "done").await;
    assert_eq!((ended.stored, ended.plan.as_deref()), (3, Some("mornings")));
    verax.run(&["warm", "plan", "delete", plan]).done();
    assert_eq!(verax.run(&["warm", "plan", "show", plan]).code, 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_follows_invalidations_one_run_for_a_burst() {
    let origin = HeldOrigin::start("late ferry").await;
    origin.let_go(1_000);
    let verax = Verax::ephemeral(&[]);
    let client = verax.client();
    let boards = boards(&client, &origin.at(), 16).await;
    let set = [
        "warm",
        "plan",
        "set",
        "ferrydesk/always",
        "--namespace",
        "boards",
        "--key",
        "a",
        "--key",
        "b",
        "--after-invalidation",
        "1s",
    ];
    verax.run(&set).done();
    verax.run(&["warm", "run", "ferrydesk/always"]).done();
    assert_eq!(origin.calls(), 2);
    // A run that is over holds no refill that the next invalidation could void.
    let ended = async |count: usize| {
        until_some("the invalidated keys are warm again", async || {
            let runs = client.runs::<WarmRun>().await.unwrap();
            let all_done = runs.len() == count && runs.iter().all(|run| run.state == "done");
            all_done.then_some(runs)
        })
        .await
    };
    boards.delete("a").await.unwrap();
    ended(2).await;
    for _ in 0..5 {
        boards.delete("a").await.unwrap();
        boards.delete("b").await.unwrap();
    }
    let runs = ended(3).await;
    assert_eq!(origin.calls(), 5);
    assert_eq!((runs[0].stored, runs[0].cause.as_str()), (2, "after an invalidation"), "{runs:?}");
    assert_eq!((runs[1].stored, runs[1].skipped), (1, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn hot_keys_show_what_is_read() {
    let origin = HeldOrigin::start("late ferry").await;
    origin.let_go(1_000);
    let verax = Verax::ephemeral(&[]);
    let client = verax.client();
    let boards = boards(&client, &origin.at(), 16).await;
    assert!(verax.run(&["hot", "ferrydesk/boards"]).done().contains("no reads yet"));
    for n in 0..30 {
        boards.get("busy").await.unwrap();
        if n % 3 == 0 {
            boards.get("quiet").await.unwrap();
        }
    }
    let hot = verax.run(&["hot", "ferrydesk/boards", "--json"]).json();
    let names: Vec<&Value> = hot["keys"].as_array().unwrap().iter().map(|k| &k["key"]).collect();
    assert_eq!(names, ["busy", "quiet"]);
    let share = hot["keys"][0]["share"].as_f64().unwrap();
    assert!((share - 0.75).abs() < 1e-3, "{hot}");
    // One read of 30 and one of 10 were misses.
    let ratio = |at: usize| hot["keys"][at]["hit_ratio"].as_f64().unwrap();
    assert!((ratio(0) - 29.0 / 30.0).abs() < 1e-3 && (ratio(1) - 0.9).abs() < 1e-3, "{hot}");
    assert_eq!(hot["keys"][0]["state"], "fresh");
    let estimate = fill(&[], &["--hottest", "1", "--dry-run", "--json"]);
    assert_eq!(verax.run(&estimate).json()["first_keys"], json!(["busy"]));
    let too_many = verax.run(&["hot", "ferrydesk/boards", "--limit", "1001"]);
    assert_eq!(too_many.code, 4);
    verax.run(&["hot", "ferrydesk/boards", "--limit", "1000"]).done();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_plan_may_not_say_is_refused_and_changes_nothing() {
    let verax = Verax::ephemeral(&[]);
    boards(&verax.client(), "http://127.0.0.1:1/{key}", 8).await;
    let set = |more: &[&str]| {
        let plan = ["warm", "plan", "set", "ferrydesk/p", "--namespace", "boards", "--key", "a"];
        verax.run(&[&plan, more].concat())
    };
    for (more, says) in [
        (&["--after-invalidation", "99ms"][..], "0.1 to 60"),
        (&["--after-invalidation", "61s"], "0.1 to 60"),
        (&["--after-invalidation", "1s", "--within", "601s"], "0.1 to 600"),
        (&["--concurrency", "257"], "1 to 256"),
        (&["--hottest", "257"], "1 to 256"),
        (&["--pattern", "{harbor", "--values", "harbor=a"], "brace"),
        (&["--values", "key=range:9..1"], "no values"),
        (&["--values", "berth=1,2"], "no such variable"),
        (&["--max-age", "0s"], "would store nothing"),
    ] {
        let refused = set(more);
        assert_eq!(refused.code, 4, "{refused:?}");
        assert!(refused.err.contains(says), "{more:?}: {refused:?}");
    }
    assert_eq!(verax.run(&["warm", "plan", "list", "--json"]).json(), json!([]));
    set(&["--after-invalidation", "100ms", "--within", "600s", "--hottest", "256"]).done();
    set(&["--after-invalidation", "60s", "--concurrency", "256"]).done();
    // A plan is seen and run by those who may warm its namespace, and by nobody else.
    let token = |scope: &str| {
        let create = ["token", "create", "--scope", scope, "--note", "t", "--json"];
        verax.run(&create).json()["secret"].as_str().unwrap().to_owned()
    };
    verax.run(&["namespace", "create", "ferrydesk/fares"]).done();
    let (may, other) = (token("warm:ferrydesk/boards"), token("warm:ferrydesk/fares"));
    assert_eq!(verax.run_with(&may, &["warm", "plan", "show", "ferrydesk/p"], b"").code, 0);
    for arguments in [
        &["warm", "plan", "show", "ferrydesk/p"][..],
        &["warm", "run", "ferrydesk/p"],
        &["warm", "plan", "delete", "ferrydesk/p"],
    ] {
        assert_eq!(verax.run_with(&other, arguments, b"").code, 3, "{arguments:?}");
    }
    let list = verax.run_with(&other, &["warm", "plan", "list", "--json"], b"").json();
    assert_eq!(list, json!([]));
    let steal = ["warm", "plan", "set", "ferrydesk/p", "--namespace", "fares", "--key", "a"];
    assert_eq!(verax.run_with(&other, &steal, b"").code, 4);
    assert_eq!(verax.client().warm_plan("ferrydesk", "p").await.unwrap().spec.namespace, "boards");
}
