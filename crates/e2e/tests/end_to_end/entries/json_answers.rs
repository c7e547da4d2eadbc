//! What commands answer to programs: documented members, the same in every version.

use rstest::rstest;
use serde_json::Value;
use verax_e2e::{Verax, until_some};

/// The names of an object's members.
fn members(value: &Value) -> Vec<&str> {
    let mut names: Vec<&str> = value.as_object().unwrap().keys().map(String::as_str).collect();
    names.sort_unstable();
    names
}

const ORIGIN: [&str; 15] = [
    "breaker",
    "connect_timeout_ms",
    "created_at",
    "endpoints",
    "guard",
    "listings",
    "max_response_bytes",
    "name",
    "open_to",
    "pool",
    "reads_in_flight",
    "reads_queued",
    "tenant",
    "total_timeout_ms",
    "url",
];

const MEMORY_CURVE: [&str; 9] = [
    "known_keys",
    "known_share",
    "observed_seconds",
    "points",
    "reads_per_second",
    "remarks",
    "sampled_fraction",
    "sampled_keys",
    "sampled_reads",
];

const MEMORY_DIVISION: [&str; 7] = [
    "bytes",
    "hit_ratio_now",
    "hit_ratio_then",
    "misses_per_second_now",
    "misses_per_second_then",
    "namespaces",
    "remarks",
];

const TENANT: [&str; 4] = ["created_at", "name", "quota", "usage"];

const TENANT_QUOTA: [&str; 8] = [
    "bytes_per_second",
    "cap_bytes",
    "max_connections",
    "max_entries",
    "max_namespaces",
    "max_value_bytes",
    "requests_per_second",
    "reserve_bytes",
];

const TENANT_USAGE: [&str; 7] =
    ["bytes", "connections", "entries", "excess_bytes", "namespaces", "refused", "reserved_bytes"];

const POLICY: [&str; 21] = [
    "bypass_until",
    "bytes_per_second",
    "cap_bytes",
    "compress_above_bytes",
    "content",
    "content_schema",
    "early_refresh_percent",
    "intervals",
    "jitter_percent",
    "longest_max_age_seconds",
    "max_age_seconds",
    "max_entries",
    "max_value_bytes",
    "negative_max_age_seconds",
    "origin",
    "requests_per_second",
    "reserve_bytes",
    "shortest_max_age_seconds",
    "stale_if_error_seconds",
    "stale_while_revalidate_seconds",
    "write_through",
];

const ADVICE: [&str; 9] = [
    "changed_refills",
    "compared_refills",
    "max_age_seconds",
    "observed_seconds",
    "points",
    "reasons",
    "sampled_fraction",
    "sampled_keys",
    "sampled_reads",
];

const READ: [&str; 12] = [
    "age_seconds",
    "entity_tag",
    "key",
    "media_type",
    "origin_ms",
    "revision",
    "service_ms",
    "source",
    "stored",
    "time_left_seconds",
    "took_ms",
    "value",
];

const ENTRY: [&str; 9] = [
    "age_seconds",
    "entity_tag",
    "key",
    "media_type",
    "memory_bytes",
    "revision",
    "tags",
    "time_left_seconds",
    "value_bytes",
];

const TOKEN: [&str; 7] =
    ["created_at", "expires_at", "id", "last_used_at", "note", "revoked_at", "scopes"];

#[tokio::test(flavor = "multi_thread")]
async fn json_output_of_every_command_has_its_members() {
    let verax = Verax::ephemeral(&[]);
    let answer = |arguments: &[&str]| {
        let with_json: Vec<&str> = arguments.iter().copied().chain(["--json"]).collect();
        let answer = verax.run(&with_json);
        assert_eq!(answer.err, "", "{arguments:?} has nothing to say beside its answer");
        answer.json()
    };
    let shape = |arguments: &[&str], expected: &[&str]| {
        let answer = answer(arguments);
        let first = answer.get(0).unwrap_or(&answer);
        assert_eq!(members(first), expected, "{arguments:?}");
        answer
    };
    shape(&["tenant", "create", "ferrydesk"], &TENANT);
    shape(&["tenant", "list"], &TENANT);
    let tenant = shape(&["tenant", "change", "ferrydesk", "--max-entries", "9"], &TENANT);
    assert_eq!(members(&tenant["quota"]), TENANT_QUOTA);
    assert_eq!(members(&tenant["usage"]), TENANT_USAGE);
    shape(&["tenant", "show", "ferrydesk"], &TENANT);
    assert_eq!(answer(&["session", "list"]), Value::Array(Vec::new()));
    let at = "http://127.0.0.1:1/{key}";
    shape(&["origin", "create", "ferrydesk/desk", "--at", at], &ORIGIN);
    shape(&["origin", "change", "ferrydesk/desk", "--total-timeout", "3s"], &ORIGIN);
    assert_eq!(shape(&["origin", "list", "ferrydesk"], &ORIGIN)[0]["total_timeout_ms"], 3_000);
    let shown = shape(&["origin", "show", "ferrydesk/desk"], &ORIGIN);
    assert_eq!(members(&shown["endpoints"][0]), ["breaker", "reads_in_flight", "url"]);
    let namespace = ["created_at", "name", "policy", "tenant", "usage"];
    let create =
        ["namespace", "create", "ferrydesk/boards", "--max-age", "90s", "--max-value", "2KiB"];
    let created = shape(&create, &namespace);
    assert_eq!(members(&created["policy"]), POLICY);
    assert_eq!(created["policy"]["max_age_seconds"], 90.0);
    assert_eq!(created["policy"]["max_value_bytes"], 2_048);
    let bound = shape(&["namespace", "change", "ferrydesk/boards", "--origin", "desk"], &namespace);
    assert_eq!(bound["policy"]["origin"]["key_pattern"], "{key}");
    let unbound = shape(&["namespace", "change", "ferrydesk/boards", "--no-origin"], &namespace);
    assert_eq!(unbound["policy"]["origin"], Value::Null);
    shape(&["namespace", "list"], &namespace);
    shape(&["namespace", "show", "ferrydesk/boards"], &namespace);

    let stored = ["key", "media_type", "replaced", "value_bytes"];
    shape(&["put", "ferrydesk/boards", "k", "{}"], &stored);
    assert_eq!(shape(&["get", "ferrydesk/boards", "k"], &READ)["source"], "hit");
    verax.run_with(&verax.token(), &["put", "ferrydesk/boards", "bytes"], b"\xff\x00").done();
    let bytes = answer(&["get", "ferrydesk/boards", "bytes"]);
    assert_eq!((&bytes["value_base64"], bytes.get("value")), (&"/wA=".into(), None));
    let page = shape(&["list", "ferrydesk/boards", "--limit", "1"], &["cursor", "items"]);
    assert_eq!(members(&page["items"][0]), ENTRY);
    let sampled = ["list", "ferrydesk/boards", "--order", "largest"];
    let sample = shape(&sampled, &["items", "sample"]);
    assert_eq!(members(&sample["sample"]), ["is_whole", "looked_at", "of"]);
    let found = ["items", "looked_at", "not_json", "too_large"];
    let found = shape(&["find", "ferrydesk/boards", "$"], &found);
    assert_eq!(members(&found["items"][0]), ["count", "key", "parts", "value_bytes"]);
    shape(&["check", "ferrydesk/boards"], &["checked", "damaged"]);
    shape(&["damage", "list", "ferrydesk/boards"], &["items", "removed", "reports"]);
    shape(&["damage", "report", "ferrydesk/boards", "k"], &["key", "removed"]);
    shape(&["usage"], &["from", "items", "step_seconds", "to"]);
    let advice = shape(&["namespace", "advice", "ferrydesk/boards"], &ADVICE);
    assert_eq!(advice["points"], Value::Array(vec![]));
    let curve = answer(&["memory", "curve", "ferrydesk/boards"]);
    let more = ["entry_bytes", "measured_hit_ratio"];
    let present: Vec<_> = members(&curve).into_iter().filter(|m| !more.contains(&&**m)).collect();
    assert_eq!(present, MEMORY_CURVE);
    let division = shape(&["memory", "divide"], &MEMORY_DIVISION);
    assert_eq!(
        members(&division["namespaces"][0]),
        [
            "bytes_now",
            "bytes_then",
            "is_known",
            "namespace",
            "reads_per_second",
            "reserve_bytes",
            "tenant"
        ]
    );
    let counted = shape(&["clear", "ferrydesk/boards", "--dry-run"], &["dry_run", "entries"]);
    assert_eq!(counted["entries"], 1);
    let tag = ["tag", "invalidate", "ferrydesk/boards", "t", "--dry-run"];
    shape(&tag, &["entries", "invalidated", "tag"]);
    let deleted = shape(&["delete", "ferrydesk/boards", "k"], &["items"]);
    assert_eq!(members(&deleted["items"][0]), ["deleted", "key"]);
    assert_eq!(shape(&["clear", "ferrydesk/boards", "--yes"], &["entries"])["entries"], 1);

    let token = shape(
        &["token", "create", "--scope", "read:ferrydesk", "--note", "boards"],
        &[&TOKEN[..], &["secret"]].concat(),
    );
    assert!(token["secret"].as_str().unwrap().starts_with("verax-token-"));
    let rotate = ["token", "rotate", &token["id"].to_string()];
    let rotated = shape(&rotate, &["previous", "secret", "token"]);
    assert_eq!(
        (members(&rotated["token"]), members(&rotated["previous"])),
        (TOKEN.into(), TOKEN.into())
    );
    let listed = shape(&["token", "list"], &TOKEN);
    assert!(!listed.to_string().contains("verax-token-"), "secrets are shown once");
    shape(&["token", "revoke", &token["id"].to_string()], &["revoked"]);
    shape(&["activity", "list"], &["action", "actor", "at", "detail", "id", "subject", "tenant"]);
    shape(&["sign-in"], &["seconds", "url"]);
    assert_eq!(answer(&["load", "profile", "list"]), Value::Array(vec![]));
    assert_eq!(answer(&["load", "list"]), Value::Array(vec![]));
    let sample = answer(&["watch", "--seconds", "1"]);
    assert_eq!(sample["namespaces"][0]["tenant"], "ferrydesk");
    shape(&["namespace", "delete", "ferrydesk/boards", "--yes"], &["deleted"]);
    shape(&["origin", "delete", "ferrydesk/desk"], &["deleted"]);
    shape(&["tenant", "delete", "ferrydesk"], &["deleted"]);
    // No secret of any kind has been written to the log.
    assert!(!verax.log().contains("verax-token-"), "{}", verax.log());
}

#[rstest]
#[case::plain("plain")]
#[case::json("json")]
#[tokio::test(flavor = "multi_thread")]
async fn logs_come_in_two_formats_and_name_requests(#[case] format: &str) {
    let verax = Verax::serve(&["--log-format", format, "--log", "info,verax_server=debug"]);
    verax.run(&["tenant", "list"]).done();
    let line = until_some("the request is in the log", async || {
        verax.log().lines().find(|line| line.contains("/v1/tenants")).map(str::to_owned)
    })
    .await;
    match format {
        "json" => {
            let line: Value = serde_json::from_str(&line).unwrap();
            assert_eq!((&line["path"], &line["status"]), (&"/v1/tenants".into(), &200.into()));
            assert_eq!(line["request_id"].as_str().unwrap().len(), 16);
        }
        _ => assert!(line.contains("request_id=") && line.contains("status=200"), "{line}"),
    }
}

const WARM_RUN: [&str; 19] = [
    "bytes",
    "cause",
    "elapsed_ms",
    "failed",
    "failure_counts",
    "failures",
    "id",
    "keys",
    "namespace",
    "no_value",
    "origin_concurrency",
    "per_second",
    "phase",
    "position",
    "resumed",
    "skipped",
    "started_at",
    "state",
    "stored",
];

const ESTIMATE: [&str; 9] = [
    "evicted_bytes",
    "first_keys",
    "fresh",
    "keys",
    "limit_bytes",
    "measured_refills",
    "origin_concurrency",
    "refills",
    "warnings",
];

#[tokio::test(flavor = "multi_thread")]
async fn warm_plans_runs_and_schedules_answer_with_their_members() {
    let origin = verax_e2e::HeldOrigin::start("late ferry").await;
    origin.let_go(100);
    let verax = Verax::ephemeral(&[]);
    let answer = |arguments: &[&str]| verax.run(&[arguments, &["--json"]].concat()).json();
    // Members that are absent without a value are left out of the comparison.
    let has = |value: &Value, wanted: &[&str]| {
        let present = members(value);
        let missing: Vec<_> = wanted.iter().filter(|name| !present.contains(name)).collect();
        assert!(missing.is_empty(), "{missing:?} of {value}");
    };
    answer(&["tenant", "create", "ferrydesk"]);
    answer(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]);
    answer(&["namespace", "create", "ferrydesk/boards", "--origin", "desk"]);
    let plan = "ferrydesk/mornings";
    let set = ["warm", "plan", "set", plan, "--namespace", "boards", "--key", "a", "--key", "b"];
    let put = answer(&set);
    assert_eq!(members(&put), ["changed_at", "keys", "name", "namespace", "tenant"]);
    assert_eq!(answer(&["warm", "plan", "list"])[0], put);
    assert_eq!(answer(&["warm", "plan", "show", plan]), put);
    let exported = answer(&["warm", "plan", "export"]);
    assert_eq!(members(&exported), ["plans"]);
    assert_eq!(exported["plans"][plan]["namespace"], "boards");
    has(&answer(&["warm", "run", plan, "--dry-run"]), &ESTIMATE);
    let run = answer(&["warm", "run", plan, "--wait"]);
    has(&run, &[&WARM_RUN[..], &["plan"]].concat());
    assert_eq!((&run["stored"], &run["state"]), (&2.into(), &"done".into()));
    let id = run["id"].to_string();
    assert_eq!(answer(&["warm", "show", &id])["id"], run["id"]);
    assert_eq!(answer(&["warm", "list"])[0]["id"], run["id"]);
    has(&answer(&["warm", "fill", "ferrydesk/boards", "--key", "c"]), &WARM_RUN);

    let set = ["schedule", "set", plan, "--warm-plan", "mornings", "--cron", "0 7 * * *"];
    let schedule = answer(&set);
    let own = ["action", "changed_at", "cron", "name", "next", "tenant"];
    assert_eq!(members(&schedule), own);
    assert_eq!(schedule["next"].as_array().unwrap().len(), 10);
    let slot = answer(&["schedule", "run", plan]);
    assert_eq!(members(&slot), ["by_hand", "run", "state", "taken_at", "time"]);
    assert_eq!(answer(&["schedule", "history", plan])[0]["run"], slot["run"]);
    has(&answer(&["schedule", "list"])[0], &[&own[..], &["last"]].concat());
    assert_eq!(answer(&["schedule", "pause", plan])["paused"], true);
    assert_eq!(
        members(&answer(&[
            "schedule",
            "set",
            plan,
            "--warm-plan",
            "mornings",
            "--every",
            "1h",
            "--dry-run"
        ])),
        ["next"]
    );
    assert_eq!(answer(&["schedule", "delete", plan])["deleted"], plan);
    verax.run(&["get", "ferrydesk/boards", "a"]).done();
    let hot = answer(&["hot", "ferrydesk/boards"]);
    assert_eq!(
        members(&hot),
        ["half_life_seconds", "keys", "observed_seconds", "reads_per_second"]
    );
    has(
        &hot["keys"][0],
        &["hit_ratio", "key", "may_be_over_by", "reads_per_second", "share", "state"],
    );
    assert_eq!(answer(&["warm", "plan", "delete", plan])["deleted"], plan);
}
