//! The HTTP interface over a real service: sessions and their guard, streams, metrics, console
//! files.

use std::time::Duration;

use crate::fixture::Fixture;
use futures_util::StreamExt;
use reqwest::header::HeaderMap;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn a_session_cookie_works_for_the_console_only() {
    let fixture = Fixture::start().await;
    let sign_in =
        fixture.request(Method::POST, "/v1/session").json(&json!({ "token": fixture.token }));
    let response = sign_in.send().await.unwrap();
    assert_eq!(response.status(), StatusCode::CREATED);
    let cookie = response.headers()["set-cookie"].to_str().unwrap().to_owned();
    for part in ["HttpOnly", "SameSite=Strict", "Path=/", "Max-Age=43200"] {
        assert!(cookie.contains(part), "{cookie}");
    }
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let with_cookie = |method, path: &str| fixture.request(method, path).header("cookie", &cookie);

    // It reads; it changes nothing without the field that only the console's own pages can send.
    let shown: Value =
        with_cookie(Method::GET, "/v1/session").send().await.unwrap().json().await.unwrap();
    assert_eq!(shown["scopes"], json!(["admin"]));
    let create = || with_cookie(Method::POST, "/v1/tenants").json(&json!({ "name": "ferrydesk" }));
    assert_eq!(create().send().await.unwrap().status(), StatusCode::UNAUTHORIZED);
    let from_console = create().header("verax-console", "1");
    assert_eq!(from_console.send().await.unwrap().status(), StatusCode::CREATED);

    // Signing out ends it on the service, not only in the browser.
    let out = with_cookie(Method::DELETE, "/v1/session").send().await.unwrap();
    assert!(out.headers()["set-cookie"].to_str().unwrap().contains("Max-Age=0"));
    let after = with_cookie(Method::GET, "/v1/session").send().await.unwrap();
    assert_eq!(after.status(), StatusCode::UNAUTHORIZED);
    for wrong in [json!({ "code": "0".repeat(32) }), json!({ "token": "x" })] {
        let response =
            fixture.request(Method::POST, "/v1/session").json(&wrong).send().await.unwrap();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED, "{wrong}");
        assert!(!response.headers().contains_key("set-cookie"));
    }
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn streams_follow_changes_and_end_at_a_stop() {
    let fixture = Fixture::start().await;
    let refused = fixture.request(Method::GET, "/v1/live").send().await.unwrap();
    assert_eq!(refused.status(), StatusCode::UNAUTHORIZED);
    let live = fixture.request(Method::GET, "/v1/live").bearer_auth(&fixture.token);
    let response = live.send().await.unwrap();
    assert_eq!(response.headers()["content-type"], "text/event-stream");
    let mut text = String::new();
    let mut chunks = response.bytes_stream();
    while !text.contains("event: sample") {
        let chunk = chunks.next().await.unwrap().unwrap();
        text.push_str(std::str::from_utf8(&chunk).unwrap());
    }
    assert!(text.starts_with("event: history"), "{text}");
    // The stream is still open when the stop comes, and the stop does not wait for it.
    let rest = tokio::spawn(async move { chunks.collect::<Vec<_>>().await.len() });
    fixture.end().await;
    tokio::time::timeout(Duration::from_secs(10), rest).await.unwrap().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn metrics_show_what_the_token_may_see() {
    let fixture = Fixture::start().await;
    for tenant in ["ferrydesk", "tideline"] {
        fixture.create("/v1/tenants", json!({ "name": tenant })).await;
        let path = format!("/v1/tenants/{tenant}/namespaces");
        fixture.create(&path, json!({ "name": "notes" })).await;
    }
    let token = fixture.create("/v1/tokens", json!({ "scopes": ["read:tideline"] })).await;
    let metrics = async |token: &str| {
        let response =
            fixture.request(Method::GET, "/metrics").bearer_auth(token).send().await.unwrap();
        let kind = response.headers()["content-type"].to_str().unwrap().to_owned();
        assert!(kind.starts_with("application/openmetrics-text"), "{kind}");
        response.text().await.unwrap()
    };
    let own = metrics(token["secret"].as_str().unwrap()).await;
    assert!(own.contains("tenant=\"tideline\"") && !own.contains("ferrydesk"), "{own}");
    assert!(!own.contains("verax_memory_used_bytes"), "{own}");
    let all = metrics(&fixture.token).await;
    for expected in [
        "tenant=\"ferrydesk\"",
        "verax_memory_used_bytes 0",
        "le=\"+Inf\"",
        "verax_records_available 1",
    ] {
        assert!(all.contains(expected), "{expected}");
    }
    assert!(all.ends_with("# EOF\n"));
    let nobody = fixture.request(Method::GET, "/metrics").send().await.unwrap();
    assert_eq!(nobody.status(), StatusCode::UNAUTHORIZED);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_health_and_description_are_served() {
    let fixture = Fixture::start().await;
    let get = async |path: &str| fixture.request(Method::GET, path).send().await.unwrap();
    assert_eq!(get("/healthz").await.status(), StatusCode::OK);
    let ready: Value = get("/readyz").await.json().await.unwrap();
    assert_eq!((&ready["ready"], &ready["records"]), (&true.into(), &"available".into()));

    // Every path of the description is answered by something other than "no such path".
    let description: Value = get("/openapi.json").await.json().await.unwrap();
    assert_eq!(description["openapi"], "3.1.0");
    let paths = description["paths"].as_object().unwrap();
    assert!(paths.len() >= 25, "{}", paths.len());
    for (path, methods) in paths {
        let place = path.replace(['{', '}'], "");
        for method in methods.as_object().unwrap().keys() {
            let method: Method = method.to_uppercase().parse().unwrap();
            let response = fixture.request(method.clone(), &place).send().await.unwrap();
            let text = response.text().await.unwrap();
            assert!(
                !text.contains("no-such-path") && !text.contains("no-such-method"),
                "{method} {place}"
            );
        }
    }

    // The console: its pages are one file, its files are guarded and kept, and nothing else is
    // there.
    for page in ["/", "/load", "/sign-in"] {
        let response = get(page).await;
        let policy = response.headers()["content-security-policy"].to_str().unwrap().to_owned();
        assert!(policy.contains("default-src 'none'") && !policy.contains("unsafe"), "{policy}");
        assert!(policy.contains("frame-ancestors 'none'"), "{policy}");
        let text = response.text().await.unwrap();
        assert!(text.contains("<title>Verax</title>"), "{page}");
        let script = text.split("src=\"").nth(1).unwrap().split('"').next().unwrap();
        let response = get(script).await;
        assert!(response.headers()["cache-control"].to_str().unwrap().contains("immutable"));
        assert_eq!(response.headers()["x-content-type-options"], "nosniff");
    }
    for nothing in ["/nothing", "/assets/nothing.js", "/../Cargo.toml"] {
        assert_eq!(get(nothing).await.status(), StatusCode::NOT_FOUND, "{nothing}");
    }
    fixture.end().await;
}

/// The fields of a response that do not differ from one response to the next, in order.
fn comparable_fields(headers: &HeaderMap) -> Vec<(String, String)> {
    let fields = headers.iter().map(|(name, value)| {
        let value = value.to_str().unwrap();
        // Seconds pass between two responses.
        let timeless = match name.as_str() {
            "age" => "",
            "cache-status" => value.trim_end_matches(|c: char| c.is_ascii_digit()),
            _ => value,
        };
        (name.to_string(), timeless.to_owned())
    });
    let varies = |name: &str| ["request-id", "date", "server-timing"].contains(&name);
    let mut fields: Vec<_> = fields.filter(|(name, _)| !varies(name)).collect();
    fields.sort();
    fields
}

/// A plain hit goes past the router; whoever asks for more goes through it. Nobody can tell.
#[tokio::test(flavor = "multi_thread")]
async fn the_fast_path_answers_as_the_general_path() {
    let fixture = Fixture::start().await;
    fixture.create("/v1/tenants", json!({ "name": "ferrydesk" })).await;
    let path = "/v1/tenants/ferrydesk/namespaces";
    fixture.create(path, json!({ "name": "boards" })).await;
    let entry = |key: &str| format!("{path}/boards/entries/{key}");
    let put = fixture
        .request(Method::PUT, &entry("b%C3%B6ard%2F1"))
        .bearer_auth(&fixture.token)
        .header("cache-control", "max-age=60, stale-while-revalidate=5, stale-if-error=600")
        .header("cache-groups", "\"boards\", \"harbor-7\"")
        .header("content-type", "application/json")
        .body("[]");
    assert_eq!(put.send().await.unwrap().status(), StatusCode::CREATED);
    let answers = async |key: &str, token: &str| {
        let mut answers = Vec::new();
        for long in [false, true] {
            let mut get = fixture.request(Method::GET, &entry(key)).bearer_auth(token);
            if long {
                get = get.header(
                    "traceparent",
                    "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01",
                );
            }
            let response = get.send().await.unwrap();
            let fields = comparable_fields(response.headers());
            assert!(response.headers().contains_key("request-id"));
            let status = response.status();
            let mut body = response.text().await.unwrap();
            if let Ok(mut problem) = serde_json::from_str::<Value>(&body)
                && problem.get("request_id").is_some()
            {
                problem["request_id"] = json!("");
                body = problem.to_string();
            }
            answers.push((status, fields, body));
        }
        answers
    };
    for (key, token, status) in [
        ("b%C3%B6ard%2F1", fixture.token.as_str(), 200),
        ("missing", &fixture.token, 404),
        ("%zz", &fixture.token, 400),
        ("b%C3%B6ard%2F1", "verax-token-0", 401),
    ] {
        let both = answers(key, token).await;
        assert_eq!(both[0].0, status, "{both:?}");
        assert_eq!(both[0], both[1]);
    }
    let hit = &answers("b%C3%B6ard%2F1", &fixture.token).await[0];
    for field in ["age", "cache-control", "cache-groups", "cache-status", "content-type", "etag"] {
        assert!(hit.1.iter().any(|(name, _)| name == field), "{field}: {hit:?}");
    }
    fixture.end().await;
}
