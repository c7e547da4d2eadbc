//! The demo from its first start: what a new user does, in order, and what they see.

use rstest::rstest;
use serde_json::Value;
use verax_client::{Lookup, Namespace, ReadOptions, Source};
use verax_e2e::{Verax, is_running, until, until_some};

#[rstest]
#[tokio::test(flavor = "multi_thread")]
async fn a_first_session_with_the_demo() {
    let verax = Verax::demo(&["--no-traffic"]);
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    let read = async || match boards.look_up("board/aldermouth", ReadOptions::default()).await {
        Ok(Lookup::Found(found)) => found,
        other => panic!("{other:?}"),
    };

    // The first read goes to the origin, the second is a hit with the same value.
    let first = read().await;
    let second = read().await;
    assert_eq!((first.source, second.source), (Source::Origin, Source::Hit));
    assert_eq!(first.value, second.value);
    assert!(first.origin_ms.unwrap() > 0.0 && second.origin_ms.is_none());
    assert!((1..=30).contains(&second.seconds_left.unwrap()), "{second:?}");
    let board: Value = serde_json::from_slice(&second.value).unwrap();
    assert_eq!(board["rows"].as_array().unwrap().len(), 12);

    // The command says the same in a line.
    let answer = verax.run(&["get", "ferrydesk/boards", "board/aldermouth"]);
    assert!(answer.err.starts_with("hit · ") && answer.err.contains("s left"), "{answer:?}");
    assert_eq!(answer.done().as_bytes(), second.value);

    // After the lifetime ends, the next read goes to the origin again; nobody refreshes it early.
    let short = ["--max-age", "200ms", "--early-refresh", "0"];
    verax.run(&[&["namespace", "change", "ferrydesk/boards"][..], &short].concat()).done();
    let short = boards.look_up("board/brinewick", ReadOptions::default()).await.unwrap();
    assert!(matches!(short, Lookup::Found(found) if found.source == Source::Origin));
    let cached = ReadOptions { only_if_cached: true, ..Default::default() };
    until("the entry has ended", async || {
        matches!(boards.look_up("board/brinewick", cached).await, Ok(Lookup::Miss))
    })
    .await;
    let again = boards.get("board/brinewick").await.unwrap().unwrap();
    assert_eq!(again.source, Source::Origin);
    verax.run(&["namespace", "change", "ferrydesk/boards", "--max-age", "10m"]).done();

    // A key that the origin has no value for is told from a failure.
    let none = boards.look_up("board/nowhere", ReadOptions::default()).await.unwrap();
    assert!(matches!(none, Lookup::NoValue));

    warm_runs_fill_the_boards(&verax, &boards).await;
    load_runs_compare_both_lanes(&verax);

    // Ctrl-C stops all of it, and the next start keeps the records but not the entries.
    let (mariadb, before) = (verax.mariadb().unwrap(), verax.token());
    let verax = verax.restart();
    assert!(!is_running(mariadb));
    assert_eq!(verax.token(), before);
    assert!(verax.run(&["load", "list"]).done().contains("quick-look"));
    let namespaces = verax.run(&["namespace", "list", "ferrydesk", "--json"]).json();
    assert_eq!(namespaces[0]["policy"]["max_age_seconds"], 600.0, "{namespaces}");
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    let refilled = until_some("the stand-in answers on its new port", async || {
        boards.get("board/aldermouth").await.ok().flatten()
    })
    .await;
    assert_eq!(refilled.source, Source::Origin);
}

async fn warm_runs_fill_the_boards(verax: &Verax, boards: &Namespace) {
    // Warm before the rush: every harbor from the origin's own listing, then only hits.
    verax.run(&["clear", "ferrydesk/boards", "--yes"]).done();
    let warm = ["warm", "fill", "ferrydesk/boards", "--values", "harbor=origin:/harbors", "--json"];
    let warmed = verax.run(&warm).json();
    assert_eq!((&warmed["state"], &warmed["stored"]), (&"done".into(), &48.into()), "{warmed}");
    let page = boards.list("board/", None, 1_000).await.unwrap();
    assert_eq!(page.items.len(), 48);
    for entry in &page.items {
        let found = boards.get(&entry.key).await.unwrap().unwrap();
        assert_eq!(found.source, Source::Hit, "{}", entry.key);
    }
    // A harbor that does not exist has no value, and a list of none that exists warns.
    let partly =
        verax.run(&["warm", "fill", "ferrydesk/boards", "--values", "harbor=aldermouth,x"]);
    assert_eq!(partly.code, 0, "no value is no failure: {partly:?}");
    assert!(
        partly.out.contains("warmed 1 of 2 keys") && partly.out.contains("1 without a value"),
        "{partly:?}"
    );
    let none = verax.run(&["warm", "fill", "ferrydesk/boards", "--key", "board/x"]);
    assert!(none.err.contains("the origin has no value for the key"), "{none:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_berth_desks_of_the_demo_fill_what_has_no_origin() {
    let verax = Verax::demo(&[]);
    let warmed = until_some("the berth desks wait", async || {
        let run = verax.run(&["warm", "run", "quayside/berth-overview", "--wait", "--json"]);
        (run.code == 0).then(|| run.json())
    })
    .await;
    assert_eq!((&warmed["stored"], &warmed["failed"]), (&4.into(), &0.into()), "{warmed}");
    let occupancy = verax.client().namespace("quayside", "occupancy").unwrap();
    let found = occupancy.get("occupancy/aldermouth").await.unwrap().unwrap();
    let found: Value = serde_json::from_slice(&found.value).unwrap();
    assert_eq!((&found["harbor"], &found["berths"]), (&"aldermouth".into(), &4.into()), "{found}");
    assert!(found["calls"].as_i64().unwrap() > 0, "{found}");
}

fn load_runs_compare_both_lanes(verax: &Verax) {
    let run = verax.run(&["load", "run", "quick-look", "--json"]);
    // A busy host may disturb any run.
    assert!(run.code == 0 || run.err.contains("disturbed"), "{run:?}");
    let run: Value = serde_json::from_str(&run.out).unwrap();
    let lanes = &run["report"]["lanes"];
    let (cached, direct) = (&lanes[0]["figures"], &lanes[1]["figures"]);
    assert_eq!(run["state"], "done");
    assert_eq!((&cached["errors"], &direct["errors"]), (&0.into(), &0.into()), "{run}");
    assert!(cached["requests"].as_u64() > direct["requests"].as_u64(), "{run}");
    assert_eq!(direct["origin_calls"], direct["requests"]);
    assert_eq!(cached["hit_ratio"], 1.0);
    assert!(run["report"]["comparisons"][0]["times_faster_p50"].as_f64().unwrap() > 1.0, "{run}");
    assert!(run["ticks"].as_array().unwrap().len() >= 4);
    let summary = verax.run(&["load", "list"]).done();
    assert!(summary.contains("quick-look") && summary.contains("done"), "{summary}");
}
