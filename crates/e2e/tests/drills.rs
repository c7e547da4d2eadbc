//! The drills on the demo, as an operator runs them.

#![allow(clippy::unwrap_used, clippy::panic)]

use serde_json::Value;
use verax_e2e::Verax;

/// The figure of a side, by name.
fn figure(run: &Value, side: usize, name: &str) -> f64 {
    let figures = run["sides"][side]["figures"].as_array().unwrap();
    let found = figures.iter().find(|figure| figure["name"] == name);
    found.unwrap_or_else(|| panic!("no {name:?} in {figures:?}"))["value"].as_f64().unwrap()
}

/// With the guard, many callers make one origin call.
fn stampede_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let stampede = run(&["stampede", "--callers", "100"]);
    assert_eq!(figure(&stampede, 1, "origin calls"), 1.0, "{stampede}");
    assert_eq!(figure(&stampede, 1, "errors"), 0.0);
    assert!(figure(&stampede, 0, "origin calls") > 50.0 && figure(&stampede, 0, "errors") > 0.0);
    assert!(!stampede["sides"][0]["ticks"].as_array().unwrap().is_empty());
}

/// Under a lock a berth is given away once, and a late write is stopped.
fn allocation_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let allocation = run(&["allocation"]);
    let rows = "allocations in the table";
    assert!(figure(&allocation, 0, rows) > 1.0, "{allocation}");
    assert_eq!([1, 2].map(|side| figure(&allocation, side, rows)), [1.0, 1.0]);
    assert_eq!(figure(&allocation, 1, "refused since it was taken"), 3.0);
    assert_eq!(figure(&allocation, 2, "late writes stopped"), 1.0);
}

/// With a permit, a slow read leaves no old value behind.
fn old_data_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let old_data = run(&["old-data", "--callers", "10"]);
    let old = "old values left in the cache";
    assert_eq!([0, 1].map(|side| figure(&old_data, side, old)), [10.0, 0.0]);
    assert_eq!(figure(&old_data, 1, "late stores refused"), 10.0);
}

/// Stale copies bridge an outage, and the breaker is closed again after it.
fn outage_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let outage = run(&["outage"]);
    let errors = "errors seen by users";
    assert!(figure(&outage, 0, errors) > 0.0, "{outage}");
    assert_eq!(figure(&outage, 1, errors), 0.0, "{outage}");
    assert!(figure(&outage, 1, "reads served stale") > 0.0);
    for side in [0, 1] {
        let events = outage["sides"][side]["events"].as_array().unwrap();
        let of_breaker: Vec<&str> = events
            .iter()
            .filter(|event| event["who"] == "breaker")
            .map(|event| event["what"].as_str().unwrap())
            .collect();
        assert!(of_breaker.iter().any(|what| *what != "is closed"), "{events:?}");
        assert_eq!(of_breaker.last(), Some(&"is closed"), "{events:?}");
        assert!(figure(&outage, side, "origin calls while it was down") < 40.0, "{outage}");
    }
}

/// After a warm run the first readers make no origin call.
fn warm_up_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let warm_up = run(&["warm-up"]);
    assert_eq!([0, 1].map(|side| figure(&warm_up, side, "reads")), [48.0, 48.0], "{warm_up}");
    let by_readers = [0, 1].map(|side| figure(&warm_up, side, "origin calls by readers"));
    assert_eq!(by_readers, [48.0, 0.0], "{warm_up}");
    assert!(figure(&warm_up, 0, "p50") > figure(&warm_up, 1, "p50"), "{warm_up}");
}

/// A refresh without a gap keeps latencies low during a deployment.
fn deployment_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let deployment = run(&["deployment"]);
    for side in [0, 1, 2] {
        assert_eq!(figure(&deployment, side, "errors"), 0.0, "{deployment}");
        assert!(figure(&deployment, side, "reads after the deployment") > 0.0, "{deployment}");
        // Each board once, or twice if the warm run and a reader come together.
        let calls = figure(&deployment, side, "origin calls");
        assert!((48.0..=if side == 1 { 96.0 } else { 48.0 }).contains(&calls), "{deployment}");
    }
    let p99 = |side| figure(&deployment, side, "p99 after the deployment");
    assert!(p99(0) > p99(2), "{deployment}");
}

/// A reserve and a quota protect the quiet tenant from its neighbor.
fn noisy_neighbor_shows_its_guarantee(run: impl Fn(&[&str]) -> Value) {
    let noisy = run(&["noisy-neighbor"]);
    let during = |side| figure(&noisy, side, "hit ratio during the flood");
    assert!(during(0) < 99.0, "without a reserve the flood takes memory: {noisy}");
    assert_eq!(during(1), 100.0, "{noisy}");
    for side in [0, 1] {
        assert_eq!(figure(&noisy, side, "failed during the flood"), 0.0, "{noisy}");
        assert_eq!(figure(&noisy, side, "hit ratio before"), 100.0, "{noisy}");
    }
    assert_eq!(figure(&noisy, 0, "noisy tenant: refused"), 0.0);
    assert!(figure(&noisy, 1, "noisy tenant: refused") > 0.0, "{noisy}");
    // One burst, and three seconds at its rate.
    assert!(figure(&noisy, 1, "noisy tenant: puts done") <= 500.0, "{noisy}");
}

#[test]
fn each_drill_shows_its_guarantee_with_and_without() {
    let verax = Verax::demo(&["--no-traffic"]);
    let run = |arguments: &[&str]| {
        let mut whole = vec!["drill", "run"];
        whole.extend(arguments);
        whole.push("--json");
        verax.run(&whole).json()
    };
    let before = verax.run(&["namespace", "list", "--json"]).json();
    stampede_shows_its_guarantee(run);
    allocation_shows_its_guarantee(run);
    old_data_shows_its_guarantee(run);
    outage_shows_its_guarantee(run);
    warm_up_shows_its_guarantee(run);
    deployment_shows_its_guarantee(run);
    noisy_neighbor_shows_its_guarantee(run);

    let tenants = verax.run(&["tenant", "list", "--json"]).json();
    assert!(!tenants.to_string().contains("drill"), "{tenants}");

    // They leave nothing behind, and tell what cannot be run.
    assert_eq!(
        verax.run(&["namespace", "list", "--json"]).json().as_array().map(Vec::len),
        before.as_array().map(Vec::len)
    );
    let unknown = verax.run(&["drill", "run", "fire"]);
    assert!(unknown.code == 4 && unknown.err.contains("stampede, allocation"), "{unknown:?}");
    let many = verax.run(&["drill", "run", "stampede", "--callers", "100000"]);
    assert!(many.code == 4 && many.err.contains("out of range"), "{many:?}");
}

#[test]
fn drills_exist_only_in_the_demo() {
    let verax = Verax::serve(&[]);
    let list = verax.run(&["drill", "list"]).done();
    assert!(list.contains("verax demo"), "{list}");
    let refused = verax.run(&["drill", "run", "stampede"]);
    assert!(refused.code == 4 && refused.err.contains("start it with `verax demo`"), "{refused:?}");
}
