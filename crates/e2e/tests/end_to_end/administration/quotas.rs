//! Quotas of tenants and namespaces, over both transports: what is refused, what is not, and what
//! happens when a quota changes.

use std::time::Duration;

use rstest::rstest;
use serde_json::{Value, json};
use verax_client::{Cache, CacheOptions, ClientError, FailureKind, PutOptions};
use verax_e2e::{Verax, until};

fn started() -> Verax {
    let verax = Verax::ephemeral(&["--memory-limit", "64MiB"]);
    for tenant in ["ferrydesk", "tideline"] {
        verax.run(&["tenant", "create", tenant]).done();
        verax.run(&["namespace", "create", &format!("{tenant}/boards")]).done();
    }
    verax
}

fn token(verax: &Verax, tenant: &str) -> String {
    let (read, write) = (format!("read:{tenant}"), format!("write:{tenant}"));
    verax.run(&["token", "create", "--scope", &read, "--scope", &write]).done().trim().to_owned()
}

fn changed(verax: &Verax, what: &[&str]) -> Value {
    verax.run(&[what, &["--json"]].concat()).json()
}

fn handle(verax: &Verax, token: &str, tenant: &str, over_http: bool) -> Cache {
    let client = verax.client_with(token);
    let options = CacheOptions { connections: 1, ..CacheOptions::default() };
    match over_http {
        true => client.cache_over_http(tenant, "boards", options).unwrap(),
        false => client.cache(tenant, "boards", options).unwrap(),
    }
}

/// Repeats a call until a quota refuses it; returns how often it was done, and the refusal.
async fn until_refused<T>(
    mut call: impl AsyncFnMut() -> Result<T, ClientError>,
) -> (u32, ClientError) {
    for done in 0..5_000 {
        if let Err(error) = call().await {
            assert_eq!(error.failure(), Some(FailureKind::QuotaExceeded), "{error}");
            return (done, error);
        }
    }
    panic!("nothing was refused");
}

#[rstest]
#[case::wire(false)]
#[case::http(true)]
#[tokio::test(flavor = "multi_thread")]
async fn requests_above_a_rate_are_refused_and_nobody_else_notices(#[case] over_http: bool) {
    let verax = started();
    let change = ["tenant", "change", "ferrydesk", "--max-request-rate", "5"];
    assert_eq!(changed(&verax, &change)["quota"]["requests_per_second"], 5);
    let noisy = handle(&verax, &token(&verax, "ferrydesk"), "ferrydesk", over_http);
    let quiet = handle(&verax, &token(&verax, "tideline"), "tideline", over_http);
    let admin = handle(&verax, &verax.token(), "ferrydesk", over_http);
    let (done, refused) = until_refused(async || noisy.get("k").await).await;
    assert!(done >= 5, "a burst of a second passes: {done}");
    let wait = refused.retry_after().unwrap();
    assert!(wait > Duration::ZERO && wait <= Duration::from_millis(200), "{wait:?}");
    assert!(refused.to_string().contains("tenant ferrydesk has passed its limit of 5 requests"));
    assert!(refused.is_temporary());
    for n in 0..50 {
        quiet.put(&format!("k{n}"), "v", PutOptions::default()).await.unwrap();
        // Whoever must look and repair is not kept out.
        admin.get("k").await.unwrap();
    }
    // After the time it was told, the next one passes.
    let passes = async || {
        let Err(error) = noisy.get("k").await else { return true };
        tokio::time::sleep(error.retry_after().unwrap()).await;
        false
    };
    until("a request passes", passes).await;
    let shown = verax.run(&["tenant", "show", "ferrydesk", "--json"]).json();
    assert!(shown["usage"]["refused"].as_u64().unwrap() > 0, "{shown}");
    let shown = verax.run(&["tenant", "show", "tideline", "--json"]).json();
    assert_eq!(shown["usage"]["refused"], 0, "{shown}");
    // Without the limit, everything passes again.
    changed(&verax, &["tenant", "change", "ferrydesk", "--max-request-rate", "none"]);
    for _ in 0..50 {
        noisy.get("k").await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_namespace_has_rates_of_its_own_and_a_batch_counts_its_operations() {
    let verax = started();
    verax.run(&["namespace", "create", "ferrydesk/fares"]).done();
    let change = ["namespace", "change", "ferrydesk/boards", "--max-request-rate", "10"];
    let token = token(&verax, "ferrydesk");
    let boards = handle(&verax, &token, "ferrydesk", false);
    let fares = verax.client_with(&token).cache("ferrydesk", "fares", CacheOptions::default());
    let is_paid_for_later = async || {
        let refused = boards.get("k").await.unwrap_err();
        assert_eq!(refused.failure(), Some(FailureKind::QuotaExceeded), "{refused}");
        assert!(refused.to_string().contains("namespace ferrydesk/boards"), "{refused}");
        let wait = refused.retry_after().unwrap();
        assert!(wait > Duration::from_secs(5), "ten seconds' worth is to be paid for: {wait:?}");
    };
    let keys: Vec<String> = (0..100).map(|n| format!("k{n}")).collect();
    let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
    assert_eq!(changed(&verax, &change)["policy"]["requests_per_second"], 10);
    boards.get_many(&keys).await.unwrap();
    is_paid_for_later().await;
    // The same over HTTP; another rate forgives what was charged.
    changed(&verax, &["namespace", "change", "ferrydesk/boards", "--max-request-rate", "none"]);
    assert_eq!(changed(&verax, &change)["policy"]["requests_per_second"], 10);
    let lines: String =
        keys.iter().map(|key| format!("{{\"get\":{{\"key\":\"{key}\"}}}}\n")).collect();
    verax.run_with(&token, &["batch", "ferrydesk/boards"], lines.as_bytes()).done();
    is_paid_for_later().await;
    let fares = fares.unwrap();
    for _ in 0..50 {
        fares.get("k").await.unwrap();
    }
}

#[rstest]
#[case::wire(false)]
#[case::http(true)]
#[tokio::test(flavor = "multi_thread")]
async fn bytes_of_values_have_a_rate(#[case] over_http: bool) {
    let verax = started();
    changed(&verax, &["tenant", "change", "ferrydesk", "--max-byte-rate", "64KiB"]);
    let cache = handle(&verax, &token(&verax, "ferrydesk"), "ferrydesk", over_http);
    let large = vec![b'x'; 32 << 10];
    cache.put("large", large.clone(), PutOptions::default()).await.unwrap();
    let (done, refused) = until_refused(async || cache.get("large").await).await;
    assert!((1..10).contains(&done), "{done}");
    assert!(refused.to_string().contains("bytes of values a second"), "{refused}");
    // What was refused was not stored.
    let (_, _) =
        until_refused(async || cache.put("other", large.clone(), PutOptions::default()).await)
            .await;
    changed(&verax, &["tenant", "change", "ferrydesk", "--max-byte-rate", "none"]);
    for _ in 0..20 {
        assert_eq!(cache.get("large").await.unwrap().unwrap().value.len(), 32 << 10);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_of_a_tenant_are_limited() {
    let verax = started();
    changed(&verax, &["tenant", "change", "ferrydesk", "--max-connections", "2"]);
    let token = token(&verax, "ferrydesk");
    let open = async |over_http: bool| {
        let cache = handle(&verax, &token, "ferrydesk", over_http);
        cache.get("k").await.map(|_| cache)
    };
    let (first, second) = (open(false).await.unwrap(), open(true).await.unwrap());
    for over_http in [false, true] {
        let refused = open(over_http).await.unwrap_err();
        assert_eq!(refused.failure(), Some(FailureKind::QuotaExceeded), "{refused}");
        assert!(refused.to_string().contains("2 connections"), "{refused}");
    }
    // Those that are open go on, and another tenant is not affected.
    first.get("k").await.unwrap();
    second.get("k").await.unwrap();
    let tide = self::token(&verax, "tideline");
    handle(&verax, &tide, "tideline", false).get("k").await.unwrap();
    let shown = verax.run(&["tenant", "show", "ferrydesk", "--json"]).json();
    assert_eq!(shown["usage"]["connections"], 2, "{shown}");
    drop(first);
    until("a connection is free again", async || open(false).await.is_ok()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_parts_of_a_quota_bound_what_a_tenant_creates_and_keeps() {
    let verax = started();
    let change = |more: &[&str]| verax.run(&[&["tenant", "change", "ferrydesk"], more].concat());
    // Namespaces.
    change(&["--max-namespaces", "2"]).done();
    verax.run(&["namespace", "create", "ferrydesk/fares"]).done();
    let refused = verax.run(&["namespace", "create", "ferrydesk/more"]);
    assert!(refused.code == 4 && refused.err.contains("already 2 namespaces"), "{refused:?}");
    // Values: a new namespace takes what its tenant may store, and existing ones store no more.
    change(&["--max-namespaces", "none", "--max-value", "2KiB"]).done();
    let created = verax.run(&["namespace", "create", "ferrydesk/more", "--json"]).json();
    assert_eq!(created["policy"]["max_value_bytes"], 2_048);
    let larger = ["namespace", "change", "ferrydesk/more", "--max-value", "3KiB"];
    let refused = verax.run(&larger);
    assert!(refused.code == 4 && refused.err.contains("2048 bytes"), "{refused:?}");
    let put = |bytes: usize| {
        let value = vec![b'x'; bytes];
        verax.run_with(&verax.token(), &["put", "ferrydesk/boards", "k"], &value)
    };
    put(2_048).done();
    let refused = put(2_049);
    assert!(refused.code == 4 && refused.err.contains("2048 bytes"), "{refused:?}");
    // Entries.
    change(&["--max-value", "none", "--max-entries", "50"]).done();
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    for n in 0..80 {
        boards.put(&format!("k{n}"), "v", PutOptions::default()).await.unwrap();
    }
    let shown = verax.run(&["tenant", "show", "ferrydesk", "--json"]).json();
    assert_eq!(shown["usage"]["entries"], 50, "{shown}");
    change(&["--max-entries", "none"]).done();
    let change = ["namespace", "change", "ferrydesk/boards", "--max-entries", "20"];
    verax.run(&change).done();
    let entries = async || {
        let shown = verax.run(&["namespace", "show", "ferrydesk/boards", "--json"]).json();
        shown["usage"]["entries"] == 20
    };
    until("a lowered number shrinks the namespace", entries).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lowered_cap_shrinks_a_tenant_in_the_background() {
    let verax = started();
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    let value = vec![b'x'; 32 << 10];
    for n in 0..400 {
        boards.put(&format!("k{n}"), value.clone(), PutOptions::default()).await.unwrap();
    }
    let tenant = || verax.run(&["tenant", "show", "ferrydesk", "--json"]).json();
    let before = tenant()["usage"]["bytes"].as_u64().unwrap();
    assert!(before > 12 << 20, "{before}");
    let lowered = changed(&verax, &["tenant", "change", "ferrydesk", "--cap", "1MiB"]);
    assert_eq!(lowered["quota"]["cap_bytes"], 1 << 20);
    let shrunk = async || {
        let shown = tenant();
        let (bytes, excess) = (&shown["usage"]["bytes"], &shown["usage"]["excess_bytes"]);
        assert_eq!(
            excess.as_u64().unwrap(),
            bytes.as_u64().unwrap().saturating_sub(1 << 20),
            "{shown}"
        );
        excess == 0
    };
    until("it has shrunk", shrunk).await;
    assert!(boards.get("k399").await.unwrap().is_some() || tenant()["usage"]["entries"] != 0);
}

#[test]
fn reserves_that_do_not_fit_together_are_refused_with_the_sums() {
    let verax = started();
    let refused = |what: &[&str], says: &str| {
        let answer = verax.run(what);
        assert!(answer.code == 4 && answer.err.contains(says), "{what:?}: {answer:?}");
    };
    verax.run(&["tenant", "change", "ferrydesk", "--reserve", "40MiB"]).done();
    refused(
        &["tenant", "change", "tideline", "--reserve", "30MiB"],
        "other tenants reserve 41943040 of 67108864 bytes, which leaves 25165824",
    );
    verax.run(&["tenant", "change", "tideline", "--reserve", "24MiB"]).done();
    // A namespace's reserve is part of its tenant's.
    verax.run(&["namespace", "change", "tideline/boards", "--reserve", "20MiB"]).done();
    refused(
        &["namespace", "create", "tideline/tables", "--reserve", "5MiB"],
        "the tenant's other namespaces take, of its reserve, 20971520 of 25165824 bytes, which leaves 4194304",
    );
    refused(
        &["tenant", "change", "tideline", "--reserve", "19MiB"],
        "less than the 20971520 bytes that the tenant's namespaces reserve",
    );
    refused(&["tenant", "change", "tideline", "--cap", "20MiB"], "is above the cap");
    // Without a reserve of its own, the namespaces' reserves are what the tenant is guaranteed.
    verax.run(&["tenant", "change", "tideline", "--reserve", "0"]).done();
    refused(&["tenant", "change", "tideline", "--cap", "19MiB"], "less than the 20971520 bytes");
    refused(
        &["namespace", "create", "tideline/tables", "--reserve", "5MiB"],
        "other namespaces and tenants reserve 62914560 of 67108864 bytes, which leaves 4194304",
    );
    verax.run(&["namespace", "create", "tideline/tables", "--reserve", "4MiB"]).done();
    // Nothing of what was refused stayed.
    let shown = verax.run(&["tenant", "show", "tideline", "--json"]).json();
    assert_eq!(shown["usage"]["reserved_bytes"], 24 << 20, "{shown}");
    assert_eq!(
        (&shown["quota"]["reserve_bytes"], &shown["quota"]["cap_bytes"]),
        (&json!(0), &Value::Null)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quota_is_an_administrators_and_changes_by_comparison() {
    let verax = started();
    let manager = verax.run(&["token", "create", "--scope", "manage:ferrydesk"]).done();
    let change = ["tenant", "change", "ferrydesk", "--max-request-rate", "5"];
    let refused = verax.run_with(manager.trim(), &change, b"");
    assert!(refused.code == 4 && refused.err.contains("scope admin"), "{refused:?}");
    let own = ["namespace", "change", "ferrydesk/boards", "--max-byte-rate", "1MiB"];
    let refused = verax.run_with(manager.trim(), &own, b"");
    assert!(refused.code == 4 && refused.err.contains("scope admin"), "{refused:?}");
    // Who sees one namespace alone sees nothing of the whole tenant.
    let scope = "read:ferrydesk/boards";
    let reader = verax.run(&["token", "create", "--scope", scope]).done();
    let listed = verax.run_with(reader.trim(), &["tenant", "list", "--json"], b"").json();
    assert_eq!((&listed[0]["quota"], &listed[0]["usage"]), (&Value::Null, &Value::Null));
    assert_eq!(verax.run_with(reader.trim(), &["tenant", "show", "ferrydesk"], b"").code, 4);
    // By HTTP, a change names the version that it applies to.
    let http = reqwest::Client::new();
    let url = format!("{}/v1/tenants/ferrydesk", verax.url());
    let shown = http.get(&url).bearer_auth(verax.token()).send().await.unwrap();
    let tag = shown.headers()["etag"].clone();
    let patch = async |body: Value| {
        let request = http.patch(&url).bearer_auth(verax.token()).header("if-match", &tag);
        request.json(&body).send().await.unwrap().status().as_u16()
    };
    assert_eq!(patch(json!({"max_entries": 0})).await, 422);
    assert_eq!(patch(json!({"max_entries": 10})).await, 200);
    assert_eq!(patch(json!({"max_entries": 20})).await, 412, "it was the earlier version");
    assert_eq!(patch(json!({"entries": 20})).await, 422);
    let shown = verax.run(&["tenant", "show", "ferrydesk", "--json"]).json();
    assert_eq!(shown["quota"]["max_entries"], 10);
    let activity = verax.run(&["activity", "list", "--tenant", "ferrydesk", "--json"]).json();
    assert_eq!(activity[0]["action"], "tenant.change", "{activity}");
    // What changed, before and after, and nothing else.
    assert_eq!(activity[0]["detail"], json!({"max_entries": {"before": null, "after": 10}}));
}

#[test]
fn quotas_survive_a_restart() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let change = [
        "tenant",
        "change",
        "ferrydesk",
        "--reserve",
        "8MiB",
        "--cap",
        "16MiB",
        "--max-entries",
        "1000",
        "--max-namespaces",
        "3",
        "--max-value",
        "64KiB",
        "--max-request-rate",
        "500",
        "--max-byte-rate",
        "1MiB",
        "--max-connections",
        "20",
    ];
    let before = changed(&verax, &change);
    let create = [
        "namespace",
        "create",
        "ferrydesk/boards",
        "--max-entries",
        "100",
        "--max-request-rate",
        "50",
        "--max-byte-rate",
        "64KiB",
        "--jitter",
        "5",
        "--negative-max-age",
        "7s",
        "--early-refresh",
        "100",
    ];
    verax.run(&create).done();
    let shown = |verax: &Verax| {
        verax.run(&["namespace", "show", "ferrydesk/boards", "--json"]).json()["policy"].clone()
    };
    let policy = shown(&verax);
    let verax = verax.restart();
    let after = verax.run(&["tenant", "show", "ferrydesk", "--json"]).json();
    assert_eq!(after["quota"], before["quota"]);
    assert_eq!(after["quota"]["max_connections"], 20);
    assert_eq!(shown(&verax), policy);
    assert_eq!((&policy["max_entries"], &policy["jitter_percent"]), (&json!(100), &json!(5)));
}
