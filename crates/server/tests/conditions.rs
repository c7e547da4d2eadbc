//! Conditions of requests (RFC 9110, section 13), and fields on several lines.

#![allow(clippy::unwrap_used)]

mod fixture;

use fixture::Fixture;
use reqwest::Method;
use serde_json::json;

const ENTRY: &str = "/v1/tenants/ferrydesk/namespaces/boards/entries/k";

#[tokio::test(flavor = "multi_thread")]
async fn every_change_of_an_entry_keeps_to_its_condition() {
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
