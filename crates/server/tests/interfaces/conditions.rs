//! Conditions of requests (RFC 9110, section 13), and fields on several lines.

use crate::fixture::Fixture;
use reqwest::Method;
use serde_json::json;

const ENTRY: &str = "/v1/tenants/ferrydesk/namespaces/boards/entries/k";

#[tokio::test(flavor = "multi_thread")]
async fn every_change_of_an_entry_checks_its_condition() {
    let fixture = Fixture::start().await;
    fixture.create("/v1/tenants", json!({ "name": "ferrydesk" })).await;
    fixture.create("/v1/tenants/ferrydesk/namespaces", json!({ "name": "boards" })).await;
    let send = async |method: &str, fields: &[(&str, &str)]| {
        let method = Method::from_bytes(method.as_bytes()).unwrap();
        let mut request = fixture.request(method.clone(), ENTRY).bearer_auth(&fixture.token);
        for (name, line) in fields {
            request = request.header(*name, *line);
        }
        if method == Method::PUT {
            request = request.header("cache-control", "max-age=600").body("v");
        }
        let response = request.send().await.unwrap();
        let tag = response.headers().get("etag").map(|tag| tag.to_str().unwrap().to_owned());
        (response.status().as_u16(), tag)
    };
    let (created, tag) = send("PUT", &[]).await;
    assert_eq!(created, 201);
    let tag = tag.unwrap();
    let weak = format!("W/{tag}");
    let list = format!("\"other\", {tag}");
    for method in ["PUT", "PATCH", "DELETE"] {
        for refused in [
            ("if-match", "\"other\""),
            ("if-match", "\"00000000000000000000000000000000\""),
            ("if-match", weak.as_str()),
            ("if-none-match", "*"),
            ("if-none-match", weak.as_str()),
        ] {
            assert_eq!(send(method, &[refused]).await.0, 412, "{method} {refused:?}");
        }
        assert_eq!(send(method, &[("if-match", "other")]).await.0, 400, "{method}");
        assert_eq!(send("GET", &[]).await.0, 200, "what was refused changed nothing");
        for holds in [
            &[("if-match", "*")][..],
            &[("if-match", tag.as_str())],
            &[("if-match", list.as_str())],
            &[("if-match", "\"other\""), ("if-match", tag.as_str())],
            &[("if-none-match", "\"other\"")],
        ] {
            assert_eq!(send(method, holds).await.0, 204, "{method} {holds:?}");
            send("PUT", &[]).await;
        }
    }
    // Where nothing is, an entry that is wanted is not there.
    assert_eq!(send("DELETE", &[]).await.0, 204);
    for method in ["PUT", "PATCH", "DELETE"] {
        assert_eq!(send(method, &[("if-match", "*")]).await.0, 412, "{method}");
    }
    assert_eq!(send("GET", &[]).await.0, 404);
    assert_eq!(send("PUT", &[("if-none-match", "*")]).await.0, 201);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_origin_is_changed_only_at_the_expected_revision() {
    let fixture = Fixture::start().await;
    fixture.create("/v1/tenants", json!({ "name": "ferrydesk" })).await;
    let desk = json!({ "name": "desk", "url": "http://127.0.0.1:9/boards/{harbor}" });
    fixture.create("/v1/tenants/ferrydesk/origins", desk).await;
    let path = "/v1/tenants/ferrydesk/origins/desk";
    let show = async || {
        let shown = fixture.request(Method::GET, path).bearer_auth(&fixture.token).send().await;
        let shown = shown.unwrap();
        let tag = shown.headers()["etag"].to_str().unwrap().to_owned();
        (tag, shown.json::<serde_json::Value>().await.unwrap())
    };
    let change = async |tag: &str, milliseconds: u64| {
        let change = json!({ "connect_timeout_ms": milliseconds });
        let request = fixture.request(Method::PATCH, path).bearer_auth(&fixture.token);
        let sent = request.header("if-match", tag).json(&change).send().await.unwrap();
        let tag = sent.headers().get("etag").map(|tag| tag.to_str().unwrap().to_owned());
        (sent.status().as_u16(), tag)
    };
    let (first, shown) = show().await;
    assert_eq!(shown["name"], "desk");
    let (changed, second) = change(&first, 250).await;
    assert_eq!(changed, 200);
    assert_ne!(second.as_ref(), Some(&first));
    assert_eq!(change(&first, 700).await.0, 412, "somebody has changed it");
    let (now, shown) = show().await;
    assert_eq!((Some(now), &shown["connect_timeout_ms"]), (second, &json!(250)));
    let missing = fixture.request(Method::GET, "/v1/tenants/ferrydesk/origins/none");
    let missing = missing.bearer_auth(&fixture.token).send().await.unwrap();
    assert_eq!(missing.status(), 404);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tokens_come_in_pages() {
    let fixture = Fixture::start().await;
    for note in ["one", "two", "three", "four"] {
        fixture.create("/v1/tokens", json!({ "scopes": ["admin"], "note": note })).await;
    }
    let page = async |query: &str| {
        let path = format!("/v1/tokens?{query}");
        let sent = fixture.request(Method::GET, &path).bearer_auth(&fixture.token).send().await;
        let sent = sent.unwrap();
        (sent.status().as_u16(), sent.json::<serde_json::Value>().await.unwrap())
    };
    let (mut query, mut notes, mut pages) = ("limit=2".to_owned(), Vec::new(), 0);
    loop {
        let (status, listed) = page(&query).await;
        assert_eq!(status, 200);
        let items = listed["items"].as_array().unwrap();
        notes.extend(items.iter().map(|token| token["note"].as_str().unwrap().to_owned()));
        pages += 1;
        let Some(cursor) = listed["cursor"].as_str() else { break };
        assert_eq!(items.len(), 2);
        query = format!("limit=2&cursor={cursor}");
    }
    // The first is the administrator's own.
    assert_eq!((notes[1..].join(" "), pages), ("one two three four".into(), 3));
    assert_eq!(page("").await.1["items"].as_array().unwrap().len(), 5);
    for (refused, status) in [("limit=0", 422), ("limit=1001", 422), ("cursor=x", 422)] {
        assert_eq!(page(refused).await.0, status, "{refused}");
    }
    assert_eq!(page("limit=1000&cursor=").await.0, 200);
    fixture.end().await;
}
