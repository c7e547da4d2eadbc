//! Batches, lifetimes, tags, counters, rate limits and keys, by command and by HTTP.

use serde_json::json;
use verax_e2e::Verax;

fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/notes", "--max-age", "5m"]).done();
    verax
}

#[test]
fn every_operation_has_a_command() {
    let verax = started();
    let place = "ferrydesk/notes";
    verax.run(&["put", place, "fog", "thick", "--tag", "weather", "--max-age", "1h"]).done();
    let changed = verax.run(&["lifetime", place, "fog", "--max-age", "30s", "--json"]).json();
    let left = changed["time_left_seconds"].as_f64().unwrap();
    assert!(left > 20.0 && left <= 30.0, "{changed}");
    let missing = verax.run(&["lifetime", place, "sun", "--max-age", "30s"]);
    assert!(missing.code == 3 && missing.err.contains("\"sun\""), "{missing:?}");
    verax.run(&["tag", "invalidate", place, "weather"]).done();
    assert_eq!(verax.run(&["get", place, "fog"]).code, 3);

    assert_eq!(
        verax.run(&["counter", "add", place, "boardings", "3", "--json"]).json()["value"],
        3
    );
    let again = verax.run(&["counter", "add", place, "boardings", "-5"]).done();
    assert!(again.starts_with("-2 · added"), "{again}");
    verax.run(&["put", place, "words", "not a number"]).done();
    let refused = verax.run(&["counter", "add", place, "words"]);
    assert!(refused.code == 4 && refused.err.contains("not a whole number"), "{refused:?}");

    let take = [
        "rate-limit",
        "acquire",
        place,
        "quay",
        "2",
        "--rate",
        "1",
        "--period",
        "1h",
        "--burst",
        "3",
    ];
    assert!(verax.run(&take).done().contains("1 left"));
    let exhausted = verax.run(&take);
    assert!(exhausted.code == 4 && exhausted.err.contains("retry in"), "{exhausted:?}");
    let never = ["rate-limit", "acquire", place, "quay", "9", "--rate", "1"];
    let never = verax.run(&never);
    assert!(never.code == 4 && never.err.contains("the burst is 1"), "{never:?}");
}

#[test]
fn a_batch_executes_what_it_can_and_reports_the_rest() {
    let verax = started();
    let lines = "{\"put\":{\"key\":\"a\",\"text\":\"one\",\"tags\":[\"t\"]}}\n\n\
        {\"put\":{\"key\":\"b\",\"base64\":\"AAH/\",\"cache_control\":\"max-age=60\"}}\n\
        {\"put\":{\"key\":\"\",\"text\":\"x\"}}\n";
    let token = verax.token();
    let answer = verax.run_with(&token, &["batch", "ferrydesk/notes"], lines.as_bytes());
    assert!(answer.code == 1 && answer.err.contains("2 stored"), "{answer:?}");
    let results: Vec<serde_json::Value> =
        answer.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!((results.len(), &results[0]["stored"]["replaced"]), (3, &json!(false)));
    assert!(results[2]["failed"]["detail"].as_str().unwrap().contains("empty"), "{results:?}");

    let lines = "{\"get\":{\"key\":\"a\"}}\n{\"get\":{\"key\":\"b\"}}\n{\"get\":{\"key\":\"c\"}}\n{\"delete\":{\"key\":\"a\"}}\n";
    let answer = verax.run_with(&token, &["batch", "ferrydesk/notes"], lines.as_bytes());
    let out = answer.done();
    let results: Vec<serde_json::Value> =
        out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(results[0]["value"]["text"], "one");
    assert_eq!(results[1]["value"]["base64"], "AAH/");
    assert_eq!(
        (&results[2], &results[3]),
        (&json!({"miss": {}}), &json!({"deleted": {"was_there": true}}))
    );

    // A mistake is found before anything is done.
    let lines = "{\"delete\":{\"key\":\"b\"}}\n{\"remove\":{\"key\":\"b\"}}\n";
    let answer = verax.run_with(&token, &["batch", "ferrydesk/notes"], lines.as_bytes());
    assert!(answer.code == 2 && answer.err.contains("line 2"), "{answer:?}");
    assert_eq!(verax.run(&["get", "ferrydesk/notes", "b"]).code, 0);

    // Without the right to write, look-ups are answered and the rest is refused one by one.
    let reader = verax.run(&["token", "create", "--scope", "read:ferrydesk"]).done();
    let lines = "{\"get\":{\"key\":\"b\"}}\n{\"delete\":{\"key\":\"b\"}}\n";
    let answer = verax.run_with(reader.trim(), &["batch", "ferrydesk/notes"], lines.as_bytes());
    assert!(answer.out.contains("\"value\"") && answer.out.contains("missing-scope"), "{answer:?}");
}

#[tokio::test]
async fn http_responses_carry_what_programs_need() {
    let verax = started();
    let http = verax.client().ready().await.map(|_| reqwest::Client::new()).unwrap();
    let at = |path: &str| format!("{}/v1/tenants/ferrydesk/namespaces/notes/{path}", verax.url());
    let post = async |path: &str, body: serde_json::Value| {
        http.post(at(path)).bearer_auth(verax.token()).json(&body).send().await.unwrap()
    };
    let acquire = json!({"acquire": 2, "rate": 1, "period_seconds": 60, "burst": 2});
    assert_eq!(post("rate-limits/q", acquire.clone()).await.status(), 200);
    let exhausted = post("rate-limits/q", acquire).await;
    assert_eq!(exhausted.status(), 429);
    let seconds: u64 = exhausted.headers()["retry-after"].to_str().unwrap().parse().unwrap();
    let problem: serde_json::Value = exhausted.json().await.unwrap();
    let exact = problem["retry_after_seconds"].as_f64().unwrap();
    assert!(exact <= seconds as f64 && seconds <= 120, "{problem}");
    for (path, body, status) in [
        ("rate-limits/q", json!({"rate": 0}), 422),
        ("rate-limits/q", json!({"rate": 1, "period_seconds": -1}), 422),
        ("counters/c", json!({"add": "many"}), 422),
        ("counters/c", json!({}), 422),
        ("batch", json!({"operations": [{"get": {}}]}), 422),
        ("tags/x", json!({}), 405),
    ] {
        let answer = post(path, body.clone()).await;
        assert_eq!(answer.status().as_u16(), status, "{path} {body}");
        assert_eq!(answer.headers()["content-type"], "application/problem+json");
    }
    let many = vec![json!({"get": {"key": "k"}}); 1_001];
    assert_eq!(post("batch", json!({ "operations": many })).await.status(), 422);
}

#[test]
fn quotas_are_enforced_and_changed_by_administrators_only() {
    let verax = Verax::serve(&["--memory-limit", "32MiB"]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let create = [
        "namespace",
        "create",
        "ferrydesk/boards",
        "--reserve",
        "8MiB",
        "--cap",
        "16MiB",
        "--jitter",
        "20",
    ];
    verax.run(&create).done();
    let shown = verax.run(&["namespace", "show", "ferrydesk/boards", "--json"]).json();
    let policy = &shown["policy"];
    assert_eq!(
        (&policy["reserve_bytes"], &policy["cap_bytes"]),
        (&json!(8 << 20), &json!(16 << 20))
    );
    assert_eq!(policy["jitter_percent"], 20);
    for (more, says) in [
        (["--reserve", "30MiB"], "leaves 25165824"),
        (["--cap", "10"], "use 1048576 (1 MiB) to"),
        (["--jitter", "80"], "use 0 to 50"),
    ] {
        let mut create = vec!["namespace", "create", "ferrydesk/more"];
        create.extend(more);
        let refused = verax.run(&create);
        assert!(refused.code == 4 && refused.err.contains(says), "{refused:?}");
    }
    let manager = verax.run(&["token", "create", "--scope", "manage:ferrydesk"]).done();
    let change = ["namespace", "change", "ferrydesk/boards", "--reserve", "1MiB"];
    let refused = verax.run_with(manager.trim(), &change, b"");
    assert!(refused.code == 4 && refused.err.contains("admin"), "{refused:?}");
    // They are there again after a restart.
    let verax = verax.restart();
    let shown = verax.run(&["namespace", "show", "ferrydesk/boards", "--json"]).json();
    assert_eq!(shown["policy"]["cap_bytes"], json!(16 << 20));
}

#[test]
fn equal_criteria_make_the_same_key() {
    let scratch = tempfile::tempdir().unwrap();
    let key = |arguments: &[&str]| {
        let mut all = vec!["key", "board"];
        all.extend(arguments);
        verax_e2e::run(&[], scratch.path(), &all, b"").done()
    };
    let one = key(&["harbor=aldermouth", "limit=10"]);
    assert_eq!(one, key(&["limit=10.0", "harbor=aldermouth"]));
    assert_eq!(one, key(&[r#"{"limit": 10, "harbor": "aldermouth"}"#]));
    assert_ne!(one, key(&["harbor=aldermouth", "limit=\"10\""]));
    let wrong = verax_e2e::run(&[], scratch.path(), &["key", "a:b", "x=1"], b"");
    assert_eq!(wrong.code, 2, "{wrong:?}");
}
