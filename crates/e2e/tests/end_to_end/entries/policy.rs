//! Policies that bound what clients may do: content rules, damaged values, bounds of max-age.

use rstest::rstest;
use serde_json::{Value, json};
use verax_client::{CacheOptions, FailureKind, LifetimeOptions, PutOptions};
use verax_e2e::{HeldOrigin, Verax, until};

const PLACE: &str = "ferrydesk/boards";

fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", PLACE, "--max-age", "1h"]).done();
    verax
}

#[rstest]
#[case::wire(false)]
#[case::http(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_value_that_breaks_the_rule_is_refused_and_the_old_one_stays(#[case] over_http: bool) {
    let verax = started();
    let client = verax.client();
    let options = CacheOptions::default();
    let cache = match over_http {
        true => client.cache_over_http("ferrydesk", "boards", options).unwrap(),
        false => client.cache("ferrydesk", "boards", options).unwrap(),
    };
    let put = async |value: &'static [u8]| cache.put("board", value, PutOptions::default()).await;
    put(b"\xff").await.unwrap();
    // A rule applies to what is stored from now on, without a restart.
    verax.run(&["namespace", "change", PLACE, "--content", "json"]).done();
    put(b"{\"delay\": 7}").await.unwrap();
    let refused = put(b"{\n  \"delay\": seven\n}").await.unwrap_err();
    assert_eq!(refused.failure(), Some(FailureKind::BrokenContent), "{refused}");
    let text = refused.to_string();
    assert!(text.contains("must be valid JSON") && text.contains("line 2, column 12"), "{text}");
    assert_eq!(cache.get("board").await.unwrap().unwrap().value, "{\"delay\": 7}");
    verax.run(&["namespace", "change", PLACE, "--content", "text"]).done();
    put(b"calm sea").await.unwrap();
    let refused = put(b"calm \xff").await.unwrap_err();
    assert!(refused.to_string().contains("line 1, column 6: it is not UTF-8"), "{refused}");
    // Counters are numbers, which every rule allows.
    verax.run(&["namespace", "change", PLACE, "--content", "json"]).done();
    cache.add("sailings", 3, LifetimeOptions::default()).await.unwrap();
    let wrong = verax.run(&["namespace", "change", PLACE, "--content", "xml"]);
    assert!(wrong.code == 4 && wrong.err.contains("any, text and json"), "{wrong:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_over_http_tells_where_the_value_is_damaged() {
    let verax = started();
    verax.run(&["namespace", "change", PLACE, "--content", "json"]).done();
    let url = format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/board", verax.url());
    let _ = rustls::crypto::ring::default_provider().install_default();
    let request = reqwest::Client::new().put(url).bearer_auth(verax.token()).body("[1, 2");
    let response = request.send().await.unwrap();
    assert_eq!(response.status().as_u16(), 422);
    let problem: Value = response.json().await.unwrap();
    let members = (&problem["type"], &problem["line"], &problem["column"], &problem["content"]);
    let kind = json!("urn:verax:problem:broken-content");
    assert_eq!(members, (&kind, &json!(1), &json!(5), &json!("json")), "{problem}");
}

/// The whole story: a stored value is damaged, which breaks a page; it is found and removed, and
/// the next read refills it.
#[tokio::test(flavor = "multi_thread")]
async fn damaged_values_are_found_removed_and_refilled() {
    let verax = started();
    let origin = HeldOrigin::start("{\"delay\": 7}").await;
    origin.let_go(1_000);
    let json = ["--type", "application/json"];
    for n in 0..30 {
        let key = format!("board/{n}");
        verax.run(&[&["put", PLACE, &key, "{\"delay\": 7}"][..], &json].concat()).done();
    }
    for (key, value) in [("board/7", "{\"delay\":"), ("board/9", "[1,\n2,\n,]"), ("note", "{")] {
        let kind = if key == "note" { "text/plain" } else { "application/json" };
        verax.run(&["put", PLACE, key, value, "--type", kind]).done();
    }
    // By what the media types declare: a note may be anything.
    let checked = verax.run(&["check", PLACE]);
    assert_eq!(checked.code, 1, "{checked:?}");
    assert!(checked.out.contains("31 entries checked, 2 damaged"), "{checked:?}");
    assert!(checked.out.contains("board/9") && checked.out.contains("3:1"), "{checked:?}");
    assert!(!checked.out.contains("note"), "{checked:?}");
    let of_prefix = verax.run(&["check", PLACE, "--prefix", "board/9", "--json"]);
    let of_prefix: Value = serde_json::from_str(&of_prefix.out).unwrap();
    assert_eq!((&of_prefix["checked"], &of_prefix["damaged"][0]["line"]), (&json!(1), &json!(3)));
    // A reader finds them, but only who may delete removes them.
    let reader = verax.run(&["token", "create", "--scope", "read:ferrydesk"]).done();
    assert_eq!(verax.run_with(reader.trim(), &["check", PLACE], b"").code, 1);
    let refused = verax.run_with(reader.trim(), &["check", PLACE, "--remove"], b"");
    assert!(refused.code == 4 && refused.err.contains("invalidate:"), "{refused:?}");
    verax.run(&["check", PLACE, "--remove"]).done();
    let again = verax.run(&["check", PLACE]).done();
    assert!(again.contains("29 entries checked, none is damaged"), "{again}");
    let activity = verax.run(&["activity", "list", "--json"]).json();
    assert_eq!(activity[0]["action"], "entries.remove-damaged", "{activity}");
    // The next read refills what was removed.
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    let change = ["namespace", "change", PLACE, "--origin", "desk"];
    verax.run(&change).done();
    assert_eq!(verax.run(&["get", PLACE, "board/7"]).done(), "{\"delay\": 7}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_origin_that_answers_damaged_values_is_treated_as_failing() {
    let verax = started();
    let origin = HeldOrigin::start("{\"delay\":").await;
    origin.let_go(1_000);
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    let change = [
        "namespace",
        "change",
        PLACE,
        "--origin",
        "desk",
        "--content",
        "json",
        "--max-age",
        "1s",
        "--stale-if-error",
        "1h",
    ];
    verax.run(&change).done();
    let refused = verax.run(&["get", PLACE, "board"]);
    assert!(refused.err.contains("cannot be used"), "{refused:?}");
    assert!(refused.err.contains("line 1, column 9"), "{refused:?}");
    // With a copy, the copy is served.
    verax.run(&["put", PLACE, "board", "{\"delay\": 3}", "--stale-if-error", "1h"]).done();
    let served = async || {
        let read = verax.run(&["get", PLACE, "board", "--json"]).json();
        assert_eq!(read["value"], "{\"delay\": 3}");
        read["source"] == "stale-on-error"
    };
    until("the copy is served although it is stale", served).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_max_age_that_a_client_wants_is_kept_within_bounds() {
    let verax = started();
    let bounds = |shortest: &str, longest: &str| {
        let change = [
            "namespace",
            "change",
            PLACE,
            "--shortest-max-age",
            shortest,
            "--longest-max-age",
            longest,
        ];
        verax.run(&change)
    };
    bounds("10s", "2h").done();
    let left = |max_age: &[&str]| {
        verax.run(&[&["put", PLACE, "k", "v"], max_age].concat()).done();
        let shown = verax.run(&["show", PLACE, "k", "--json"]).json();
        shown["time_left_seconds"].as_f64().unwrap()
    };
    assert!((5.0..=10.0).contains(&left(&["--max-age", "1s"])));
    assert!((50.0..=60.0).contains(&left(&["--max-age", "60s"])));
    assert!((7_100.0..=7_200.0).contains(&left(&["--max-age", "30d"])));
    assert!((3_500.0..=3_600.0).contains(&left(&[])), "the namespace's own is within them");
    // A change of a stored entry's lifetime, and a counter's, too.
    verax.run(&["lifetime", PLACE, "k", "--max-age", "9d"]).done();
    let shown = verax.run(&["show", PLACE, "k", "--json"]).json();
    assert!(shown["time_left_seconds"].as_f64().unwrap() <= 7_200.0, "{shown}");
    let refused = bounds("2h", "3h");
    assert!(refused.code == 4 && refused.err.contains("not within its bounds"), "{refused:?}");
    let refused = bounds("2h", "1h");
    assert!(refused.code == 4, "{refused:?}");
}

/// "Is it the cache?": answered by one switch, over both transports, and over by itself.
/// Fifty callers read past the cache at the same time.
async fn reads_together_share_a_call(verax: &Verax, origin: &HeldOrigin, url: &str, token: &str) {
    let before = origin.calls();
    let mut together = tokio::task::JoinSet::new();
    for _ in 0..50 {
        // Each with a connection of its own: a handle would ask once for all of its callers.
        let read = reqwest::Client::new().get(url).bearer_auth(token).send();
        together.spawn(async move { read.await.map(|response| response.status().as_u16()) });
    }
    let waiting = async || {
        let url = url.replace("/entries/board", "/permits");
        let request = reqwest::Client::new().get(url).bearer_auth(verax.token());
        let shown: Value = request.send().await.unwrap().json().await.unwrap();
        shown["items"][0]["waiting"].as_u64().is_some_and(|waiting| waiting >= 49)
    };
    until("all of them wait", waiting).await;
    origin.let_go(10_000);
    while let Some(read) = together.join_next().await {
        assert_eq!(read.unwrap().unwrap(), 200);
    }
    // The first read began before the others asked, so there is one more for all of them.
    let calls = origin.calls() - before;
    assert!((1..=3).contains(&calls), "50 readers made {calls} calls");
}

#[rstest]
#[case::wire(false)]
#[case::http(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_bypass_reads_the_origin_until_it_ends(#[case] over_http: bool) {
    let verax = started();
    let origin = HeldOrigin::start("07:10").await;
    // One read for the cache, ten past it, and the one whose fields are looked at.
    origin.let_go(12);
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    let bypass = |more: &[&str]| verax.run(&[&["namespace", "bypass", PLACE], more].concat());
    let refused = bypass(&["--for", "5m"]);
    assert!(refused.code == 4 && refused.err.contains("needs an origin"), "{refused:?}");
    verax.run(&["namespace", "change", PLACE, "--origin", "desk"]).done();
    let scopes = ["--scope", "read:ferrydesk", "--scope", "write:ferrydesk"];
    let token = verax.run(&[&["token", "create"], &scopes[..]].concat()).done();
    let (client, options) = (verax.client_with(token.trim()), CacheOptions::default());
    let cache = match over_http {
        true => client.cache_over_http("ferrydesk", "boards", options).unwrap(),
        false => client.cache("ferrydesk", "boards", options).unwrap(),
    };
    let reads = async |count: usize| {
        let before = origin.calls();
        for _ in 0..count {
            assert_eq!(cache.get("board").await.unwrap().unwrap().value, "07:10");
        }
        origin.calls() - before
    };
    assert_eq!(reads(10).await, 1);
    // Who may not manage does not flip it.
    let own = verax.run_with(token.trim(), &["namespace", "bypass", PLACE, "--for", "1m"], b"");
    assert!(own.code == 4 && own.err.contains("manage:"), "{own:?}");
    for too_long in ["25h", "400d"] {
        let refused = bypass(&["--for", too_long]);
        assert!(refused.code == 4 && refused.err.contains("a day"), "{refused:?}");
    }
    assert!(bypass(&["--for", "5m"]).done().contains("go to the origin until"));
    assert_eq!(reads(10).await, 10);
    // It shows, and is recorded; callers who read together share a read.
    let shown = verax.run(&["namespace", "show", PLACE]).done();
    assert!(shown.contains("UNTIL 20"), "{shown}");
    let url = format!("{}/v1/tenants/ferrydesk/namespaces/boards/entries/board", verax.url());
    let read = reqwest::Client::new().get(&url).bearer_auth(token.trim()).send().await.unwrap();
    let status = read.headers()["cache-status"].to_str().unwrap().to_owned();
    assert!(status.starts_with("verax; fwd=bypass; fwd-status=200"), "{status}");
    let activity = verax.run(&["activity", "list", "--json"]).json();
    assert!(activity[0]["detail"]["bypass_until_ms"]["after"].is_u64(), "{activity}");
    reads_together_share_a_call(&verax, &origin, &url, token.trim()).await;
    bypass(&["--end"]).done();
    assert_eq!(reads(10).await, 0);
    // It ends by itself.
    bypass(&["--for", "1s"]).done();
    until("it has ended", async || reads(2).await == 0).await;
    assert!(
        verax.run(&["namespace", "show", PLACE]).done().contains("bypass                  off")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn entries_are_removed_and_refreshed_at_intervals() {
    let verax = started();
    let cache = verax.client().cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    let tagged = |tag: &str| PutOptions { tags: vec![tag.to_owned()], ..PutOptions::default() };
    let store = async || {
        cache.put("board/saltmere", "07:10", tagged("boards")).await.unwrap();
        cache.put("fare/saltmere", "4.20", tagged("fares")).await.unwrap();
    };
    let is_there = async |key: &str| cache.get(key).await.unwrap().is_some();
    let change =
        |arguments: &[&str]| verax.run(&[&["namespace", "change", PLACE][..], arguments].concat());
    store().await;
    change(&["--remove-every", "tag:boards=1s"]).done();
    until("the tag is invalidated", async || !is_there("board/saltmere").await).await;
    assert!(is_there("fare/saltmere").await);
    // Again and again, and only what the present rules say.
    store().await;
    until("the tag is invalidated again", async || !is_there("board/saltmere").await).await;
    change(&["--remove-every", "prefix:fare/=1s"]).done();
    store().await;
    until("the prefix is cleared", async || !is_there("fare/saltmere").await).await;
    assert!(is_there("board/saltmere").await);
    let shown = verax.run(&["namespace", "show", PLACE]).done();
    assert!(shown.contains("prefix fare/ removed every 1s"), "{shown}");
    let activity = verax.run(&["activity", "list", "--json"]).json();
    assert!(activity[0]["detail"]["intervals"]["after"][0].is_string(), "{activity}");

    // A refresh needs an origin; the copy stays readable while it is read anew.
    let refused = change(&["--refresh-every", "all=1s"]);
    assert!(refused.code == 4 && refused.err.contains("needs an origin"), "{refused:?}");
    let origin = HeldOrigin::start("08:20").await;
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    store().await;
    change(&["--origin", "desk", "--refresh-every", "all=1s"]).done();
    until("a refresh has begun", async || origin.calls() > 0).await;
    let only = verax.run(&["get", PLACE, "board/saltmere", "--only-if-cached"]).done();
    assert_eq!(only, "07:10");
    origin.let_go(100_000);
    let value = async || verax.run(&["get", PLACE, "board/saltmere"]).done() == "08:20";
    until("the new value is stored", value).await;
    change(&["--no-intervals"]).done();
    for (wrong, why) in [
        ("boards=1s", 2),
        ("tag:boards=0.5s", 4),
        ("all=32d", 4),
        ("prefix:=5s", 4),
        ("all=soon", 2),
    ] {
        assert_eq!(change(&["--remove-every", wrong]).code, why, "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn values_must_match_the_schema_of_the_namespace() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", PLACE, "--max-age", "1h"]).done();
    verax.run(&["put", PLACE, "board/before", "{\n \"delay\": \"late\"}"]).done();
    let file = verax.scratch("schema.json");
    let change = |text: &str, more: &[&str]| {
        std::fs::write(&file, text).unwrap();
        let schema = ["namespace", "change", PLACE, "--content-schema", file.to_str().unwrap()];
        verax.run(&[&schema[..], more].concat())
    };
    let schema = r#"{"required": ["delay"], "properties": {"delay": {"type": "integer"}}}"#;
    let refused = change(schema, &[]);
    assert!(refused.code == 4 && refused.err.contains("content rule json"), "{refused:?}");
    let refused = change(r#"{"$ref": "file:///etc/hostname"}"#, &["--content", "json"]);
    assert!(refused.code == 4 && refused.err.contains("refers to"), "{refused:?}");
    change(schema, &["--content", "json"]).done();
    verax.run(&["put", PLACE, "board/saltmere", "{\"delay\": 7}"]).done();
    let refused = verax.run(&["put", PLACE, "board/saltmere", "{\n  \"delay\": 7.5\n}"]);
    let text = "must match the namespace's schema, but does not: line 2, column 12: /delay";
    assert!(refused.code == 4 && refused.err.contains(text), "{refused:?}");
    // It is kept, and holds after a restart; what was stored before is found by a check.
    let verax = verax.restart();
    assert_eq!(
        verax.run(&["put", PLACE, "board/saltmere", "[]"]).code,
        0,
        "no object has no delay"
    );
    assert_eq!(verax.run(&["put", PLACE, "board/saltmere", "{}"]).code, 4);
    verax.run(&["put", PLACE, "board/brinewick", "{\"delay\": 1}"]).done();
    let shown = verax.run(&["namespace", "show", PLACE]).done();
    assert!(shown.contains("json, with a schema of"), "{shown}");
    verax.run(&["namespace", "change", PLACE, "--content-schema", "none"]).done();
    verax.run(&["put", PLACE, "board/saltmere", "{}"]).done();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_check_finds_what_does_not_match_the_schema() {
    let verax = started();
    verax.run(&["put", PLACE, "board/1", "{\n \"delay\": \"late\"}"]).done();
    verax.run(&["put", PLACE, "board/2", "{\"delay\": 2}"]).done();
    let file = verax.scratch("schema.json");
    std::fs::write(&file, r#"{"properties": {"delay": {"type": "integer"}}}"#).unwrap();
    let schema = ["--content", "json", "--content-schema", file.to_str().unwrap()];
    verax.run(&[&["namespace", "change", PLACE], &schema[..]].concat()).done();
    let checked = verax.run(&["check", PLACE]);
    assert!(checked.code == 1 && checked.out.contains("2:11"), "{checked:?}");
    assert!(checked.out.contains("2 entries checked, 1 damaged"), "{checked:?}");
}

#[rstest]
#[case::wire(false)]
#[case::http(true)]
#[tokio::test(flavor = "multi_thread")]
async fn values_are_stored_compressed_and_read_as_they_were(#[case] over_http: bool) {
    let verax = started();
    let client = verax.client();
    let options = CacheOptions::default();
    let cache = match over_http {
        true => client.cache_over_http("ferrydesk", "boards", options).unwrap(),
        false => client.cache("ferrydesk", "boards", options).unwrap(),
    };
    let board = "{\"to\": \"saltmere\", \"delay\": 7}".repeat(1_000);
    let memory = |key: &str| {
        let shown = verax.run(&["show", PLACE, key, "--json"]).json();
        (shown["memory_bytes"].as_u64().unwrap(), shown["value_bytes"].as_u64().unwrap())
    };
    let put = async |key: &'static str, value: String| {
        cache.put(key, value, PutOptions::default()).await.unwrap();
    };
    put("board/plain", board.clone()).await;
    let (plain, length) = memory("board/plain");
    assert!(plain >= length);
    verax.run(&["namespace", "change", PLACE, "--compress-above", "1KiB"]).done();
    put("board/packed", board.clone()).await;
    put("board/small", board[..1_024].to_owned()).await;
    let (packed, packed_length) = memory("board/packed");
    assert!(packed * 10 < plain && packed_length == length, "{packed} of {plain}");
    assert!(memory("board/small").0 > 1_024);
    for key in ["board/plain", "board/packed"] {
        let read = cache.get(key).await.unwrap().unwrap();
        assert_eq!(read.value, board, "{key}");
        // In a batch, by a condition, and by a search it is the same value, too.
        let tag = verax.run(&["show", PLACE, key, "--json"]).json()["entity_tag"].clone();
        let put = ["put", PLACE, key, "{}", "--if-match", tag.as_str().unwrap()];
        let many = cache.get_many(&[key]).await.unwrap();
        assert_eq!(many[0].as_ref().unwrap().as_ref().unwrap().value, board);
        verax.run(&put).done();
        assert_eq!(cache.get(key).await.unwrap().unwrap().value, "{}");
    }
    put("board/packed", format!("[{}1]", "1, ".repeat(2_000))).await;
    let found = verax.run(&["find", PLACE, "$[2000]", "--json"]).json();
    assert_eq!(found["items"][0]["key"], "board/packed", "{found}");
    let refused = verax.run(&["namespace", "change", PLACE, "--compress-above", "255"]);
    assert!(refused.code == 4 && refused.err.contains("cannot be compressed"), "{refused:?}");
    verax.run(&["namespace", "change", PLACE, "--compress-above", "none"]).done();
    put("board/packed", board.clone()).await;
    assert!(memory("board/packed").0 >= length);
}
