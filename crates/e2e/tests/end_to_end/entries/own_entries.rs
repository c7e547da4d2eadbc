//! Tenants, namespaces, tokens and entries of one's own, by command and by HTTP.

use serde_json::{Value, json};
use verax_e2e::Verax;

/// A token that may read and write in a tenant.
fn token_for(verax: &Verax, tenant: &str) -> String {
    let (read, write) = (format!("read:{tenant}"), format!("write:{tenant}"));
    let answer = verax.run(&["token", "create", "--scope", &read, "--scope", &write]);
    answer.done().trim().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn two_tenants_share_a_service_and_nothing_else() {
    let verax = Verax::ephemeral(&[]);
    for tenant in ["ferrydesk", "tideline"] {
        verax.run(&["tenant", "create", tenant]).done();
        let place = format!("{tenant}/notes");
        verax
            .run(&["namespace", "create", &place, "--max-age", "5m", "--max-value", "1KiB"])
            .done();
    }
    let (ferry, tide) = (token_for(&verax, "ferrydesk"), token_for(&verax, "tideline"));

    // The same key in two tenants holds two values.
    verax.run_with(&ferry, &["put", "ferrydesk/notes", "today", "fog"], b"").done();
    verax.run_with(&tide, &["put", "tideline/notes", "today"], b"spring tide").done();
    assert_eq!(verax.run_with(&ferry, &["get", "ferrydesk/notes", "today"], b"").done(), "fog");
    assert_eq!(
        verax.run_with(&tide, &["get", "tideline/notes", "today"], b"").done(),
        "spring tide"
    );

    // Another tenant's token is refused alike for what exists and for what does not.
    let http = reqwest_client();
    let refusal = async |path: &str| {
        let url = format!("{}/v1/tenants/{path}", verax.url());
        let response = http.get(url).bearer_auth(&tide).send().await.unwrap();
        let status = response.status().as_u16();
        let challenge = response.headers()["www-authenticate"].to_str().unwrap().to_owned();
        (status, challenge, response.json::<Value>().await.unwrap())
    };
    let (status, challenge, there) = refusal("ferrydesk/namespaces/notes/entries/today").await;
    assert_eq!((status, &there["missing_scope"]), (403, &json!("read:ferrydesk/notes")));
    assert!(challenge.contains("insufficient_scope"), "{challenge}");
    for nowhere in ["ferrydesk/namespaces/secret/entries/x", "nobody/namespaces/notes/entries/x"] {
        let (status, _, mut other) = refusal(nowhere).await;
        assert_eq!(
            (status, &other["type"], &other["title"]),
            (403, &there["type"], &there["title"])
        );
        let place = other["missing_scope"].as_str().unwrap().replace("read:", "");
        other["detail"] =
            other["detail"].as_str().unwrap().replace(&place, "ferrydesk/notes").into();
        assert_eq!(other["detail"], there["detail"]);
    }
    let mine = verax.run_with(&tide, &["tenant", "list", "--json"], b"").json();
    assert_eq!(mine.as_array().unwrap().len(), 1, "{mine}");

    // A revoked token opens nothing at once.
    let id =
        verax.run(&["token", "list", "--json"]).json().as_array().unwrap().last().unwrap()["id"]
            .clone();
    verax.run(&["token", "revoke", &id.to_string()]).done();
    let revoked = verax.run_with(&tide, &["get", "tideline/notes", "today"], b"");
    assert_eq!(revoked.code, 4, "{revoked:?}");
    assert!(revoked.err.contains("revoked"), "{revoked:?}");
}

fn reqwest_client() -> reqwest::Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::new()
}

#[tokio::test(flavor = "multi_thread")]
async fn entries_are_put_listed_shown_and_deleted() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "quayside"]).done();
    verax.run(&["namespace", "create", "quayside/berths"]).done();
    entries_by_command(&verax);
    entries_by_http(&verax).await;

    // Clearing removes the rest, and the activity says who did it.
    let cleared = verax.run(&["clear", "quayside/berths", "--yes", "--json"]).json();
    assert_eq!(cleared["entries"], 5);
    let activity = verax.run(&["activity", "list", "--json"]).json();
    assert_eq!(activity[0]["action"], "namespace.clear");
    assert!(activity[0]["actor"].as_str().unwrap().contains("administrator"), "{activity}");

    // Metrics count what happened.
    let metrics = reqwest_client().get(format!("{}/metrics", verax.url()));
    let metrics = metrics.bearer_auth(verax.token()).send().await.unwrap();
    let text = metrics.text().await.unwrap();
    let expected = "verax_puts_total{tenant=\"quayside\",namespace=\"berths\"} 8";
    assert!(text.contains(expected) && text.ends_with("# EOF\n"), "{text}");
}

/// Puts with a lifetime and a tag, shows, lists by prefix, and deletes.
fn entries_by_command(verax: &Verax) {
    let put = [
        "put",
        "quayside/berths",
        "berth/1",
        r#"{"boat":"Red Knot"}"#,
        "--max-age",
        "90s",
        "--tag",
        "harbor-3",
        "--if-absent",
    ];
    verax.run(&put).done();
    let again = verax.run(&put);
    assert_eq!(again.code, 4, "{again:?}");
    let shown = verax.run(&["show", "quayside/berths", "berth/1", "--json"]).json();
    assert_eq!(shown["media_type"], "application/json");
    assert_eq!(shown["tags"], json!(["harbor-3"]));
    let left = shown["time_left_seconds"].as_f64().unwrap();
    assert!((60.0..=90.0).contains(&left), "{shown}");
    for n in 2..=5 {
        verax.run(&["put", "quayside/berths", &format!("berth/{n}"), "free"]).done();
    }
    verax.run(&["put", "quayside/berths", "crane/1", "idle"]).done();
    let keys = keys_in_pages(verax);
    assert_eq!(keys, ["berth/1", "berth/2", "berth/3", "berth/4", "berth/5"]);
    verax.run(&["delete", "quayside/berths", "berth/1"]).done();
    assert_eq!(verax.run(&["get", "quayside/berths", "berth/1"]).code, 3);
}

/// The keys of the berths, listed two a page, in order.
fn keys_in_pages(verax: &Verax) -> Vec<String> {
    let mut keys = Vec::new();
    let mut cursor: Option<String> = None;
    loop {
        let mut list =
            vec!["list", "quayside/berths", "--prefix", "berth/", "--limit", "2", "--json"];
        if let Some(cursor) = &cursor {
            list.extend(["--cursor", cursor]);
        }
        let page = verax.run(&list).json();
        keys.extend(
            page["items"].as_array().unwrap().iter().map(|i| i["key"].as_str().unwrap().to_owned()),
        );
        match page["cursor"].as_str() {
            Some(next) => cursor = Some(next.to_owned()),
            None => break,
        }
    }
    keys.sort_unstable();
    keys
}

/// Any UTF-8 key in one path segment, validators, conditions, and the deletion of an absent entry.
async fn entries_by_http(verax: &Verax) {
    let http = reqwest_client();
    let base = format!("{}/v1/tenants/quayside/namespaces/berths/entries", verax.url());
    let token = verax.token();
    let url = format!("{base}/a%2Fb%20%C3%A4%3F%23");
    let put = http
        .put(&url)
        .bearer_auth(&token)
        .header("cache-control", "max-age=30")
        .header("cache-groups", "\"x\", \"y\"")
        .header("content-type", "text/plain")
        .body("value");
    let response = put.send().await.unwrap();
    assert_eq!(response.status().as_u16(), 201);
    let etag = response.headers()["etag"].to_str().unwrap().to_owned();
    let get = async |name: &'static str, value: &str| {
        http.get(&url).bearer_auth(&token).header(name, value).send().await.unwrap()
    };
    let response = get("accept", "*/*").await;
    let field = |name: &str| response.headers()[name].to_str().unwrap().to_owned();
    assert_eq!([field("content-type"), field("etag")], ["text/plain".to_owned(), etag.clone()]);
    assert_eq!([field("cache-control"), field("cache-groups")], ["max-age=30", "\"x\", \"y\""]);
    assert!(field("cache-status").starts_with("verax; hit; ttl=") && field("age") == "0");
    assert_eq!(response.text().await.unwrap(), "value");
    assert_eq!(get("if-none-match", &etag).await.status().as_u16(), 304);
    let head = http.head(&url).bearer_auth(&token).send().await.unwrap();
    assert_eq!(
        (head.status().as_u16(), &head.headers()["content-length"]),
        (200, &"5".parse().unwrap())
    );
    let put_if = async |tag: &str, body: &'static str| {
        let put = http.put(&url).bearer_auth(&token).header("if-match", tag).body(body);
        put.send().await.unwrap().status().as_u16()
    };
    assert_eq!(put_if(&etag, "newer").await, 204);
    assert_eq!(put_if(&etag, "older").await, 412);
    let listed: Value = http
        .get(format!("{base}?prefix=a/"))
        .bearer_auth(&token)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(listed["items"][0]["key"], "a/b ä?#");
    for _ in 0..2 {
        let gone = http.delete(&url).bearer_auth(&token).send().await.unwrap();
        assert_eq!(gone.status().as_u16(), 204);
    }
    let miss = get("accept", "*/*").await;
    assert_eq!(miss.headers()["cache-status"], "verax; fwd=uri-miss");
    assert_eq!(miss.status().as_u16(), 404);
}

#[test]
fn a_prefix_is_cleared_and_nothing_else() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    for key in ["board/a", "board/b", "boar", "fare/a"] {
        verax.run(&["put", "ferrydesk/boards", key, "v"]).done();
    }
    let clear = |more: &[&str]| {
        let mut arguments = vec!["clear", "ferrydesk/boards", "--yes"];
        arguments.extend(more);
        verax.run(&arguments)
    };
    assert!(clear(&["--prefix", "board/"]).done().contains("removed 2 entries"));
    let left = verax.run(&["list", "ferrydesk/boards", "--json"]).json();
    let mut keys: Vec<&str> =
        left["items"].as_array().unwrap().iter().map(|e| e["key"].as_str().unwrap()).collect();
    keys.sort_unstable();
    assert_eq!(keys, ["boar", "fare/a"]);
    let empty = clear(&["--prefix", ""]);
    assert!(empty.code == 4 && empty.err.contains("the prefix is empty"), "{empty:?}");
    assert!(clear(&[]).done().contains("removed 2 entries"));
}
