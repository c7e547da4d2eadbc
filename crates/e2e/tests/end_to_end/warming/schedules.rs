//! Schedules: each time runs once, whoever is active.

use std::collections::BTreeSet;

use rstest::rstest;
use verax_api::{CreateNamespace, CreateOrigin, OriginChoice, PolicyChange, ScheduleSlot, WarmRun};
use verax_client::{Client, ClientOptions};
use verax_e2e::{HeldOrigin, Verax, until, until_some};
use verax_records::launcher::PrivateServer;

async fn berths(client: &Client) {
    client.create_tenant("quayside").await.unwrap();
    let policy = PolicyChange { max_age_seconds: Some(600.0), ..Default::default() };
    let namespace = CreateNamespace { name: "berths".into(), policy };
    client.create_namespace("quayside", &namespace).await.unwrap();
}

/// The slots that ran by themselves, oldest first.
async fn slots(client: &Client, name: &str) -> Vec<ScheduleSlot> {
    let mut slots = client.schedule_slots("quayside", name, 500).await.unwrap_or_default();
    slots.retain(|slot| !slot.by_hand);
    slots.reverse();
    slots
}

/// Whether slots follow each other every second.
fn gapless(slots: &[ScheduleSlot]) -> bool {
    let millis = |slot: &ScheduleSlot| slot.time.as_millisecond();
    slots.windows(2).all(|pair| millis(&pair[1]) - millis(&pair[0]) == 1_000)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_runs_pauses_and_keeps_its_history() {
    let verax = Verax::ephemeral(&[]);
    let client = verax.client();
    berths(&client).await;
    let set = ["schedule", "set", "quayside/tidy", "--invalidate", "berths", "--every", "1s"];
    let shown = verax.run(&set).done();
    assert!(shown.contains("clear berths") && shown.contains("every 1s"), "{shown}");
    let ran = until_some("three times have passed", async || {
        Some(slots(&client, "tidy").await).filter(|slots| slots.len() >= 3)
    })
    .await;
    assert!(gapless(&ran) && ran[0].state == "done", "{ran:?}");
    assert_eq!(ran[0].note, "0 entries removed");

    verax.run(&["schedule", "pause", "quayside/tidy"]).done();
    let paused = client.schedule("quayside", "tidy").await.unwrap();
    assert!(paused.spec.paused && paused.next.is_empty(), "{paused:?}");
    let before = slots(&client, "tidy").await.len();
    // By hand it runs all the same.
    assert!(verax.run(&["schedule", "run", "quayside/tidy"]).done().contains("done"));
    assert!(verax.run(&["schedule", "history", "quayside/tidy"]).done().contains("by hand"));
    let change = ["schedule", "set", "quayside/tidy", "--check", "berths", "--cron", "0 3 * * *"];
    let nightly = verax.run(&change).done();
    assert!(nightly.contains("check berths") && nightly.contains("03:00:00 UTC"), "{nightly}");
    assert!(slots(&client, "tidy").await.len() <= before + 1);
    verax.run(&["schedule", "delete", "quayside/tidy"]).done();
    assert_eq!(verax.run(&["schedule", "show", "quayside/tidy"]).code, 3);
}

#[rstest]
#[case(&["--cron", "0 25 * * *"], "character 3")]
#[case(&["--cron", "0 3 * *"], "five")]
#[case(&["--every", "500ms"], "1 s to 31 days")]
#[case(&["--every", "1m", "--jitter", "2m"], "jitter")]
#[case(&["--cron", "0 3 * * *", "--time-zone", "Atlantis/Harbor"], "Europe/Lisbon")]
#[case(&["--cron", "0 3 * * *", "--between", "08:00-18:00"], "active window")]
#[case(&["--cron", "0 3 * * *", "--on", "holiday"], "mon-fri")]
#[tokio::test(flavor = "multi_thread")]
async fn a_timing_that_cannot_be_is_refused_with_the_fix(
    #[case] timing: &[&str],
    #[case] says: &str,
) {
    let verax = Verax::ephemeral(&[]);
    berths(&verax.client()).await;
    let mut set = vec!["schedule", "set", "quayside/x", "--invalidate", "berths"];
    set.extend(timing);
    let refused = verax.run(&set);
    assert_eq!(refused.code, 4, "{refused:?}");
    assert!(refused.err.contains(says), "{refused:?}");
    assert_eq!(verax.run(&["schedule", "list", "--json"]).json(), serde_json::json!([]));
}

/// A client of either node.
fn client_of(first: &Verax, second: &Verax, token: &str) -> Client {
    Client::new(ClientOptions {
        url: format!("{},{}", first.url(), second.url()),
        token: Some(token.to_owned().into()),
        ..Default::default()
    })
    .unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_time_runs_once_when_the_active_one_is_killed() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let mut first = Verax::serve_over(&server.url("verax"), &[]);
    let token = first.token();
    berths(&first.client()).await;
    let origin = HeldOrigin::start("berth 4").await;
    let desk = CreateOrigin { name: "desk".into(), url: origin.at(), ..Default::default() };
    first.client().create_origin("quayside", &desk).await.unwrap();
    let choice = OriginChoice { name: "desk".into(), key_pattern: None };
    let policy = PolicyChange { origin: Some(Some(choice)), ..Default::default() };
    let plans = CreateNamespace { name: "plans".into(), policy };
    first.client().create_namespace("quayside", &plans).await.unwrap();

    let second = Verax::serve_over(&server.url("verax"), &[]);
    let client = client_of(&first, &second, &token);
    until("the first one knows of the second", async || {
        client.nodes().await.unwrap().iter().any(|node| node.state == "standby")
    })
    .await;
    let set = ["schedule", "set", "quayside/tidy", "--invalidate", "berths", "--every", "1s"];
    first.run(&set).done();
    // A run of a schedule that the kill interrupts.
    let plan = [
        "warm",
        "plan",
        "set",
        "quayside/all",
        "--namespace",
        "plans",
        "--values",
        "key=range:1..9",
    ];
    first.run(&plan).done();
    let set = ["schedule", "set", "quayside/fill", "--warm-plan", "all", "--cron", "0 3 1 1 *"];
    first.run(&set).done();
    first.run(&["schedule", "run", "quayside/fill"]).done();
    until("the run reads its origin", async || origin.calls() > 0).await;
    until("some times have passed", async || slots(&client, "tidy").await.len() >= 3).await;

    first.kill();
    let before = until_some("the second one is active", async || {
        client.schedule_slots("quayside", "tidy", 500).await.ok().filter(|slots| !slots.is_empty())
    })
    .await
    .len();
    let all = until_some("times pass again", async || {
        Some(slots(&client, "tidy").await).filter(|slots| slots.len() > before + 3)
    })
    .await;
    assert!(gapless(&all), "{:?}", all.iter().map(|slot| slot.time).collect::<Vec<_>>());
    let done = |slot: &&ScheduleSlot| slot.state == "done";
    assert!(all.iter().filter(done).count() >= all.len() - 1, "{all:?}");

    origin.let_go(100);
    let runs = until_some("the interrupted run ends", async || {
        let runs = client.runs::<WarmRun>().await.ok()?;
        runs.iter().all(|run| run.state == "done").then_some(runs)
    })
    .await;
    assert_eq!(runs.len(), 1, "{runs:?}");
    assert_eq!((runs[0].stored, runs[0].resumed), (9, 1));
    let fill = client.schedule_slots("quayside", "fill", 10).await.unwrap();
    let states: BTreeSet<_> = fill.iter().map(|slot| (slot.state.as_str(), slot.run)).collect();
    assert_eq!(states, BTreeSet::from([("started", Some(runs[0].id))]));
    drop((first, second));
    server.stop().await.unwrap();
}
