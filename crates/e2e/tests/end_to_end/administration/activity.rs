//! Who changed what: before and after, found again, and exported, from both places of the records.

use serde_json::{Value, json};
use verax_e2e::Verax;

fn prepared(verax: Verax) -> Verax {
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["tenant", "create", "tideline"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "30s"]).done();
    let manager = ["token", "create", "--scope", "manage:ferrydesk", "--note", "desk"];
    let manager = verax.run(&manager).done();
    let change = ["namespace", "change", "ferrydesk/boards", "--max-age", "5m", "--jitter", "10"];
    verax.run_with(manager.trim(), &change, b"").done();
    let at = "http://127.0.0.1:1/{key}";
    verax.run(&["origin", "create", "tideline/gauges", "--at", at]).done();
    verax.run(&["origin", "change", "tideline/gauges", "--total-timeout", "3s"]).done();
    verax.run(&["clear", "ferrydesk/boards", "--yes"]).done();
    verax
}

fn searches(verax: &Verax) {
    let list = |more: &[&str]| {
        let found = verax.run(&[&["activity", "list", "--json"], more].concat()).json();
        let actions = found.as_array().unwrap().iter().map(|row| row["action"].clone());
        (actions.collect::<Vec<Value>>(), found)
    };
    let (actions, all) = list(&["--limit", "100"]);
    assert_eq!(actions.len(), 9, "{all}");
    // What changed, before and after.
    let (_, found) = list(&["--action", "namespace.change"]);
    let expected = json!({
        "max_age_seconds": { "before": 30.0, "after": 300.0 },
        "jitter_percent": { "before": 0, "after": 10 },
    });
    assert_eq!(found[0]["detail"], expected);
    let (_, found) = list(&["--action", "ORIGIN.CHANGE"]);
    let expected = json!({ "total_timeout_ms": { "before": 10_000, "after": 3_000 } });
    assert_eq!(found[0]["detail"], expected);
    // By actor, subject, tenant and time, together.
    assert_eq!(list(&["--actor", "(desk)"]).0, ["namespace.change"]);
    assert_eq!(list(&["--subject", "gauges"]).0, ["origin.change", "origin.create"]);
    let both = list(&["--tenant", "ferrydesk", "--action", "create"]).0;
    assert_eq!(both, ["namespace.create", "tenant.create"]);
    assert_eq!(list(&["--since", "1h"]).0.len(), 9);
    assert!(list(&["--until", "1h"]).0.is_empty() && list(&["--since", "0s"]).0.is_empty());
    // What a pattern would mean has no meaning here.
    assert!(
        list(&["--action", "%"]).0.is_empty() && list(&["--action", "tenant_create"]).0.is_empty()
    );
    let text = verax.run(&["activity", "list", "--action", "namespace.change"]).done();
    assert!(text.contains("max_age_seconds 30.0 → 300.0, jitter_percent 0 → 10"), "{text}");
    assert!(
        verax.run(&["activity", "list", "--actor", "nobody"]).done().contains("nothing matches")
    );
    let wrong = verax.run(&["activity", "list", "--since", "soon"]);
    assert!(wrong.code == 2 && wrong.err.contains("2026-"), "{wrong:?}");

    // All of it, one object a line, also where it takes several pages.
    let exported = verax.run(&["activity", "export"]).done();
    let lines: Vec<Value> =
        exported.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(Value::Array(lines), all);
}

#[test]
fn activity_is_found_again() {
    searches(&prepared(Verax::ephemeral(&[])));
    let verax = prepared(Verax::serve(&[]));
    searches(&verax);
    searches(&verax.restart());
}

#[tokio::test]
async fn activity_comes_page_by_page() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let verax = prepared(Verax::ephemeral(&[]));
    let get = async |query: &str| {
        let url = format!("{}/v1/activity?{query}", verax.url());
        let request = reqwest::Client::new().get(url).bearer_auth(verax.token());
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    let (mut seen, mut cursor) = (Vec::new(), String::new());
    for _ in 0..10 {
        let (status, page) = get(&format!("limit=3&cursor={cursor}")).await;
        assert_eq!(status, 200, "{page}");
        seen.extend(
            page["items"].as_array().unwrap().iter().map(|row| row["id"].as_u64().unwrap()),
        );
        match page["cursor"].as_str() {
            Some(next) => cursor = next.to_owned(),
            None => break,
        }
    }
    let expected: Vec<u64> = (1..=9).rev().collect();
    assert_eq!(seen, expected);
    for wrong in ["cursor=x", "limit=0", "limit=501", "since=yesterday", "actors=x"] {
        let (status, problem) = get(wrong).await;
        assert!(matches!(status, 400 | 422), "{wrong}: {problem}");
    }
}
