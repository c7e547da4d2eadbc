//! A look inside a namespace: filters, orders, searches by value, and counts before a removal.

use serde_json::{Value, json};
use verax_e2e::Verax;

const PLACE: &str = "ferrydesk/boards";

/// Twenty boards of two harbors, with delays of 0 to 19 minutes, and a note that is no JSON.
fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", PLACE, "--max-age", "1h"]).done();
    for delay in 0..20 {
        let harbor = if delay % 2 == 0 { "saltmere" } else { "brinewick" };
        let key = format!("board/{harbor}/{delay:02}");
        let padding = "x".repeat(delay);
        let value =
            json!({ "harbor": harbor, "departures": [{ "delay": delay }], "note": padding });
        let max_age = if delay < 4 { "30s" } else { "1h" };
        let (value, tag) = (value.to_string(), format!("harbor-{harbor}"));
        verax.run(&["put", PLACE, &key, &value, "--tag", &tag, "--max-age", max_age]).done();
    }
    verax.run(&["put", PLACE, "note", "calm sea", "--type", "text/plain"]).done();
    verax
}

fn keys(listed: &Value) -> Vec<&str> {
    listed["items"].as_array().unwrap().iter().map(|item| item["key"].as_str().unwrap()).collect()
}

#[test]
fn entries_are_listed_by_tag_and_state_and_in_an_order() {
    let verax = started();
    let list = |more: &[&str]| verax.run(&[&["list", PLACE, "--json"][..], more].concat()).json();
    assert_eq!(keys(&list(&["--tag", "harbor-saltmere"])).len(), 10);
    assert_eq!(keys(&list(&["--tag", "harbor-nowhere"])).len(), 0);
    let soon = list(&["--state", "ends-soon"]);
    assert_eq!(keys(&soon).len(), 4, "{soon}");
    assert_eq!(keys(&list(&["--state", "fresh"])).len(), 21);
    assert_eq!(keys(&list(&["--state", "stale"])).len(), 0);
    let largest = list(&["--order", "largest", "--limit", "2"]);
    assert_eq!(keys(&largest), ["board/brinewick/19", "board/brinewick/17"]);
    assert_eq!(largest["sample"], json!({ "looked_at": 21, "of": 21, "is_whole": true }));
    let of_tag = ["--order", "smallest", "--tag", "harbor-saltmere", "--limit", "1"];
    assert_eq!(keys(&list(&of_tag)), ["board/saltmere/00"]);
    assert_eq!(keys(&list(&["--order", "newest", "--limit", "1"])), ["note"]);
    // Pages of a filter show everything once.
    let first = list(&["--tag", "harbor-brinewick", "--limit", "6"]);
    let cursor = first["cursor"].as_str().unwrap();
    let second = list(&["--tag", "harbor-brinewick", "--limit", "6", "--cursor", cursor]);
    assert_eq!((keys(&first).len(), keys(&second).len(), &second["cursor"]), (6, 4, &Value::Null));
    let wrong = verax.run(&["list", PLACE, "--order", "tallest"]);
    assert_eq!(wrong.code, 2, "{wrong:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_that_cannot_be_is_refused() {
    let verax = started();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::new();
    for (query, status) in [
        ("order=largest&cursor=0-20", 422),
        ("order=tallest", 422),
        ("state=old", 422),
        ("state=fresh&order=oldest", 200),
        ("limit=0", 422),
        ("limit=1001&order=oldest", 422),
        ("limit=1000&order=oldest", 200),
    ] {
        let url = format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries?{query}", verax.url());
        let response = http.get(url).bearer_auth(verax.token()).send().await.unwrap();
        assert_eq!(response.status().as_u16(), status, "{query}");
    }
}

#[test]
fn entries_are_found_by_their_values() {
    let verax = started();
    let find = |query: &str, more: &[&str]| {
        verax.run(&[&["find", PLACE, query, "--json"][..], more].concat()).json()
    };
    let late = "$.departures[?@.delay > 15]";
    let found = find(late, &[]);
    assert_eq!((&found["looked_at"], &found["not_json"]), (&json!(21), &json!(1)), "{found}");
    let mut all = keys(&found);
    all.sort_unstable();
    let expected =
        ["board/brinewick/17", "board/brinewick/19", "board/saltmere/16", "board/saltmere/18"];
    assert_eq!(all, expected);
    let first = &found["items"][0];
    assert!(first["parts"][0].as_str().unwrap().starts_with("{\"delay\":1"), "{first}");
    assert_eq!(keys(&find(late, &["--prefix", "board/saltmere/"])).len(), 2);
    assert_eq!(keys(&find("$[?search(@, '^brine')]", &[])).len(), 10);
    // A search that stops goes on where it stopped.
    let (mut seen, mut cursor) = (0, String::new());
    loop {
        let step = find("$.harbor", &["--limit", "7", "--cursor", &cursor]);
        assert!(keys(&step).len() <= 7);
        seen += keys(&step).len();
        match step["cursor"].as_str() {
            Some(next) => cursor = next.to_owned(),
            None => break,
        }
    }
    assert_eq!(seen, 20);
    let people = verax.run(&["find", PLACE, late]).done();
    assert!(people.contains("4 found · 21 entries looked at, 1 of them no JSON"), "{people}");
    let wrong = verax.run(&["find", PLACE, "$.departures["]);
    assert!(wrong.code == 4 && wrong.err.contains("column"), "{wrong:?}");
    let costly = verax.run(&["find", PLACE, "$..a..b"]);
    assert!(costly.code == 4 && costly.err.contains("could take too long"), "{costly:?}");
    let writer = verax.run(&["token", "create", "--scope", "invalidate:ferrydesk"]).done();
    let refused = verax.run_with(writer.trim(), &["find", PLACE, late], b"");
    assert!(refused.code == 4 && refused.err.contains("read:"), "{refused:?}");
}

#[test]
fn a_dry_run_counts_what_would_go_and_removes_nothing() {
    let verax = started();
    let entries = |answer: Value| answer["entries"].as_u64().unwrap();
    let clear = |more: &[&str]| {
        verax.run(&[&["clear", PLACE, "--dry-run", "--json"][..], more].concat()).json()
    };
    assert_eq!(entries(clear(&[])), 21);
    assert_eq!(entries(clear(&["--prefix", "board/"])), 20);
    let tag = ["tag", "invalidate", PLACE, "harbor-saltmere", "--dry-run", "--json"];
    assert_eq!(entries(verax.run(&tag).json()), 10);
    let keys = ["delete", PLACE, "note", "nothing", "--dry-run", "--json"];
    let answer = verax.run(&keys).json();
    let there = json!([{ "key": "note", "there": true }, { "key": "nothing", "there": false }]);
    assert_eq!(answer["items"], there);
    // Nothing went, and nothing is in the activity.
    assert_eq!(entries(clear(&[])), 21);
    let activity = verax.run(&["activity", "list"]).done();
    assert!(!activity.contains("namespace.clear"), "{activity}");
    verax.run(&["tag", "invalidate", PLACE, "harbor-saltmere"]).done();
    assert_eq!(entries(clear(&[])), 11);
    let deleted = verax.run(&["delete", PLACE, "note", "nothing", "--json"]).json();
    let gone = json!([{ "key": "note", "deleted": true }, { "key": "nothing", "deleted": false }]);
    assert_eq!(deleted["items"], gone);
    // Who may invalidate may count, too; who may only read may not.
    let reader = verax.run(&["token", "create", "--scope", "read:ferrydesk"]).done();
    assert_eq!(verax.run_with(reader.trim(), &["clear", PLACE, "--dry-run"], b"").code, 4);
    let invalidates = verax.run(&["token", "create", "--scope", "invalidate:ferrydesk"]).done();
    assert_eq!(verax.run_with(invalidates.trim(), &["clear", PLACE, "--dry-run"], b"").code, 0);
}
