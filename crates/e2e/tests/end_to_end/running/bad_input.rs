//! Bad input, named: what is wrong and what to do, and nothing lost.

use std::net::TcpListener;
use std::time::Duration;

use serde_json::Value;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use verax_client::PutOptions;
use verax_e2e::{Verax, run};

/// One request over a plain socket, so that it may be as wrong as it likes.
async fn raw(verax: &Verax, request: &[u8]) -> (u16, Value) {
    let mut stream =
        tokio::net::TcpStream::connect(verax.url().trim_start_matches("http://")).await.unwrap();
    stream.write_all(request).await.unwrap();
    let mut answer = Vec::new();
    let mut buffer = [0; 4096];
    loop {
        let read = stream.read(&mut buffer).await.unwrap();
        answer.extend_from_slice(&buffer[..read]);
        let text = String::from_utf8_lossy(&answer).into_owned();
        let complete = text.split_once("\r\n\r\n").is_some_and(|(head, body)| {
            let length = head.lines().find_map(|l| {
                l.to_ascii_lowercase().strip_prefix("content-length: ")?.parse().ok()
            });
            body.len() >= length.unwrap_or(0)
        });
        if complete || read == 0 {
            let (head, body) = text.split_once("\r\n\r\n").unwrap();
            let status = head.split(' ').nth(1).unwrap().parse().unwrap();
            return (status, serde_json::from_str(body).unwrap_or(Value::Null));
        }
    }
}

const ENTRIES: &str = "/v1/tenants/ferrydesk/namespaces/boards/entries";

/// Bad requests, each with the status of its refusal and a part of the reason.
fn bad_requests(token: &str) -> Vec<(String, u16, &'static str)> {
    let entries = ENTRIES;
    let long = "k".repeat(1_025);
    let with = |method: &str, path: &str, more: &str, body: &str| {
        format!(
            "{method} {path} HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {token}\r\n{more}content-length: {}\r\n\r\n{body}",
            body.len()
        )
    };
    let json = "content-type: application/json\r\n";
    let put = |more: &str| with("PUT", &format!("{entries}/kept"), more, "new");
    let create = |path: &str, body: &str| with("POST", path, json, body);
    let namespaces = "/v1/tenants/ferrydesk/namespaces";
    vec![
        (with("GET", &format!("{entries}/a%zz"), "", ""), 400, "%zz"),
        (with("GET", &format!("{entries}/a%2"), "", ""), 400, "%2"),
        (with("GET", &format!("{entries}/%ff"), "", ""), 400, "UTF-8"),
        (with("PUT", &format!("{entries}/"), "", "x"), 400, "empty"),
        (with("GET", &format!("{entries}/{long}"), "", ""), 400, "1024"),
        (with("GET", "/v1/tenants/Ferry/namespaces/boards/entries/k", "", ""), 400, "lower-case"),
        (
            with("GET", "/v1/tenants/nobody/namespaces/boards/entries/k", "", ""),
            404,
            "nobody/boards",
        ),
        (
            with("GET", "/v1/tenants/ferrydesk/namespaces/none/entries/k", "", ""),
            404,
            "ferrydesk/none",
        ),
        (with("GET", &format!("{entries}?limit=0"), "", ""), 422, "1 to 1000"),
        (with("GET", &format!("{entries}?cursor=!!"), "", ""), 422, "cursor"),
        (with("GET", &format!("{entries}?perfix=x"), "", ""), 400, "perfix"),
        (put("cache-control: max-age=-1\r\n"), 400, "max-age"),
        (put("content-encoding: gzip\r\n"), 415, "gzip"),
        (put("content-range: bytes 0-0/2\r\n"), 400, "Content-Range"),
        (put("content-type: json\r\n"), 400, "TYPE/SUBTYPE"),
        (put("transfer-encoding: gzip, chunked\r\n"), 501, "chunked"),
        (with("GET", &format!("{entries}?prefix=%FF"), "", ""), 400, "UTF-8"),
        (put("cache-control: max-age=soon\r\n"), 400, "soon"),
        (put("cache-control: no-store\r\n"), 422, "no-store"),
        (put("cache-groups: boards\r\n"), 400, "Cache-Groups"),
        (put("if-match: 12\r\n"), 400, "If-Match"),
        (put("if-match: \"00000000000000000000000000000000\"\r\n"), 412, "condition"),
        (put("if-none-match: *\r\n"), 412, "condition"),
        (create("/v1/tenants", "{\"name\""), 400, "EOF"),
        (create("/v1/tenants", "{\"nmae\":\"x\"}"), 422, "nmae"),
        (create("/v1/tenants", "{\"name\":\"Über\"}"), 422, "lower-case"),
        (create("/v1/tenants", "{\"name\":\"ferrydesk\"}"), 409, "exists already"),
        (with("POST", "/v1/tenants", "", "name=x"), 415, "application/json"),
        (
            create(namespaces, "{\"name\":\"n\",\"policy\":{\"max_age_seconds\":-3}}"),
            422,
            "max_age_seconds",
        ),
        (
            create(namespaces, "{\"name\":\"n\",\"policy\":{\"max_age_seconds\":1e18}}"),
            422,
            "ten years",
        ),
        (
            create(namespaces, "{\"name\":\"n\",\"policy\":{\"max_value_bytes\":0}}"),
            422,
            "largest value",
        ),
        (
            create(namespaces, "{\"name\":\"n\",\"policy\":{\"origin\":{\"name\":\"o\"}}}"),
            422,
            "ferrydesk/o",
        ),
        (
            create("/v1/tenants/ferrydesk/origins", "{\"name\":\"o\",\"url\":\"http://{h}/x\"}"),
            422,
            "{h}",
        ),
        (create("/v1/tokens", "{\"scopes\":[\"own:ferrydesk\"]}"), 422, "own:ferrydesk"),
        (create("/v1/tokens", "{\"scopes\":[\"read:nobody\"]}"), 422, "nobody"),
        (create(&format!("{namespaces}/boards/warm-runs"), "{}"), 422, "missing field `keys`"),
        (
            create(&format!("{namespaces}/boards/warm-runs"), "{\"keys\":[{\"list\":[\"a\"]}]}"),
            422,
            "no origin",
        ),
        (
            create(&format!("{namespaces}/boards/warm-runs"), "{\"keys\":[],\"speed\":9}"),
            422,
            "unknown field `speed`",
        ),
        (create("/v1/load-runs", "{\"profile\":\"none\"}"), 404, "none"),
        (with("DELETE", "/v1/tokens/999", "", ""), 404, "999"),
        (with("GET", "/v1/nothing", "", ""), 404, "openapi.json"),
        (with("POST", "/v1/live", "", ""), 405, "POST"),
        ("GET /v1/tenants HTTP/1.1\r\nhost: localhost\r\n\r\n".to_owned(), 401, "VERAX_TOKEN"),
        (
            "GET /v1/tenants HTTP/1.1\r\nhost: localhost\r\nauthorization: Basic eA==\r\n\r\n"
                .to_owned(),
            401,
            "Bearer",
        ),
        (
            "GET /v1/tenants HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer wrong\r\n\r\n"
                .to_owned(),
            401,
            "unknown",
        ),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_requests_are_refused_with_a_reason() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-value", "1KiB"]).done();
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    boards.put("kept", "as it was", PutOptions::default()).await.unwrap();
    let (token, entries) = (verax.token(), ENTRIES);
    for (request, status, says) in bad_requests(&token) {
        let (answered, problem) = raw(&verax, request.as_bytes()).await;
        let line = request.lines().next().unwrap();
        let detail = problem["detail"].as_str().unwrap_or_default();
        assert_eq!(answered, status, "{line}: {problem}");
        assert!(detail.contains(says), "{line}: {says:?} is not in {detail:?}");
        assert_eq!(problem["status"], status, "{line}");
        assert!(problem["type"].as_str().unwrap().starts_with("urn:verax:problem:"), "{line}");
        assert_eq!(problem["request_id"].as_str().unwrap().len(), 16, "{line}");
    }

    // A body over the limit is refused by its announced size, without being read…
    let announced = format!(
        "PUT {entries}/kept HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {token}\r\ncontent-length: 999999999999\r\n\r\n"
    );
    let (status, problem) = raw(&verax, announced.as_bytes()).await;
    assert_eq!((status, &problem["limit_bytes"]), (413, &1_024.into()), "{problem}");
    // … and one that announces none, as soon as it has gone over.
    let chunk = format!("400\r\n{}\r\n", "x".repeat(1_024));
    let chunked = format!(
        "PUT {entries}/kept HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {token}\r\ntransfer-encoding: chunked\r\n\r\n{chunk}{chunk}"
    );
    assert_eq!(raw(&verax, chunked.as_bytes()).await.0, 413);

    // Through all of it, nothing was lost.
    let kept = boards.get("kept").await.unwrap().unwrap();
    assert_eq!(kept.value, "as it was");
}

/// A client that sends its whole body before it reads, as most do, still learns why it was refused;
/// one that never ends its body is disconnected.
#[tokio::test(flavor = "multi_thread")]
async fn a_refused_body_may_still_be_sent() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-value", "1KiB"]).done();
    let (token, address) = (verax.token(), verax.url().trim_start_matches("http://").to_owned());
    let head = format!(
        "PUT {ENTRIES}/large HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {token}\r\ncontent-length: {}\r\n\r\n",
        64 << 20
    );
    let body = vec![b'x'; 1 << 20];
    for _ in 0..5 {
        let mut stream = tokio::net::TcpStream::connect(&address).await.unwrap();
        stream.write_all(head.as_bytes()).await.unwrap();
        // The refusal is under way when the body begins.
        stream.readable().await.unwrap();
        for _ in 0..64 {
            stream.write_all(&body).await.unwrap();
        }
        let mut answer = String::new();
        stream.read_to_string(&mut answer).await.unwrap();
        assert!(answer.starts_with("HTTP/1.1 413"), "{answer}");
    }
    let mut endless = tokio::net::TcpStream::connect(&address).await.unwrap();
    endless.write_all(head.as_bytes()).await.unwrap();
    let sending = async {
        while endless.write_all(b"x").await.is_ok() {
            tokio::task::yield_now().await
        }
    };
    tokio::time::timeout(Duration::from_secs(60), sending).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn failing_commands_and_starts_say_what_to_do() {
    let verax = Verax::serve(&[]);
    let here = tempfile::tempdir().unwrap();
    let fails = |arguments: &[&str], code: i32, says: &[&str]| {
        let answer = run(&[], here.path(), arguments, b"");
        assert_eq!(answer.code, code, "{arguments:?}: {answer:?}");
        for part in says {
            assert!(answer.err.contains(part), "{arguments:?}: {part:?} is not in {}", answer.err);
        }
    };
    // Starting.
    let data = verax.data().display().to_string();
    fails(&["serve", "--data-dir", &data], 1, &["in use by another Verax", "--data-dir"]);
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    fails(&["serve", "--http", &address], 1, &[&address, "in use", "--http"]);
    let free = ["serve", "--http", "127.0.0.1:0", "--wire", "127.0.0.1:0"];
    let missing = [&free[..], &["--mariadbd", "/nowhere/mariadbd"]].concat();
    fails(&missing, 1, &["/nowhere/mariadbd", "mariadb-server", "records.url"]);
    let config = here.path().join("verax.toml");
    std::fs::write(&config, "[http]\naddress = \"127.0.0.1:0\"\nport = 1\n").unwrap();
    let config = config.display().to_string();
    fails(&["serve", "--config", &config], 2, &["verax.toml", "line 3", "port"]);
    fails(&["serve", "--config", "/nowhere.toml"], 2, &["/nowhere.toml"]);
    let unreachable = "mysql://verax:x@127.0.0.1:1/verax";
    fails(&[&free[..], &["--records-url", unreachable]].concat(), 1, &["not available"]);

    // Using.
    fails(&["--url", "http://127.0.0.1:1", "tenant", "list"], 5, &["127.0.0.1:1", "verax demo"]);
    fails(&["--url", "nowhere", "tenant", "list"], 2, &["nowhere", "http://127.0.0.1:8750"]);
    fails(&["--url", verax.url(), "tenant", "list"], 4, &["VERAX_TOKEN"]);
    fails(&["get", "ferrydesk", "k"], 2, &["TENANT/NAME"]);
    fails(&["get", "Ferry/boards", "k"], 2, &["lower-case"]);
    fails(&["put", "a/b", "k", "v", "--max-age", "-1s"], 2, &["length of time"]);
    fails(&["warm", "fill", "a/b", "--values", "x"], 2, &["VARIABLE=@FILE"]);
    fails(&["load", "run", "missing.json"], 2, &["missing.json"]);
    fails(&["--url", "http://127.0.0.1:1", "clear", "a/b"], 5, &["VERAX_URL"]);
    let unknown = verax.run(&["get", "nobody/nothing", "k"]);
    assert_eq!((unknown.code, unknown.err.contains("nobody/nothing")), (3, true), "{unknown:?}");
    let kept = verax.run(&["tenant", "delete", "nobody"]);
    assert_eq!(kept.code, 3, "{kept:?}");
}
