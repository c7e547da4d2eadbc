//! What each right of a token allows, over both transports: nothing less and nothing more, and
//! each refusal names the scope that is missing.

use std::time::Duration;

use verax_client::{
    Cache, CacheOptions, ClientError, LifetimeOptions, LockOptions, PutOptions, Rate,
};
use verax_e2e::Verax;

const RIGHTS: [&str; 8] =
    ["read", "write", "invalidate", "lock", "warm", "load", "observe", "manage"];

/// The scope that a refusal names; `None` if the call was not refused for want of a scope.
fn missing(text: &str) -> Option<String> {
    let scope = text.split_once("lacks the scope ")?.1;
    Some(scope.split(':').next().unwrap().to_owned())
}

fn missing_in<T>(outcome: Result<T, ClientError>) -> Option<String> {
    missing(&outcome.err()?.to_string())
}

/// Each call of the client library: the rights that allow it and the one its refusal names.
const CALLS: [(&str, &[&str], &str); 9] = [
    ("get", &["read"], "read"),
    ("list", &["read"], "read"),
    ("put", &["write"], "write"),
    ("set lifetime", &["write"], "write"),
    ("count", &["write"], "write"),
    ("delete", &["write", "invalidate"], "invalidate"),
    ("invalidate tag", &["write", "invalidate"], "invalidate"),
    ("clear", &["invalidate"], "invalidate"),
    ("lock", &["lock"], "lock"),
];

/// The rights that each right gives besides itself.
fn given(right: &str) -> Vec<&str> {
    let more: &[&str] = match right {
        "read" => &["observe"],
        "write" => &["lock"],
        "manage" => &["invalidate", "warm", "load", "observe"],
        _ => &[],
    };
    [&[right], more].concat()
}

async fn call(cache: &Cache, call: &str) -> Option<String> {
    let minute = LifetimeOptions { max_age: Some(Duration::from_secs(60)), ..Default::default() };
    match call {
        "get" => missing_in(cache.get("board").await),
        "list" => missing_in(cache.list("", None, 10).await),
        "put" => missing_in(cache.put("board", "[]", PutOptions::default()).await),
        "set lifetime" => missing_in(cache.set_lifetime("board", minute).await),
        "count" => missing_in(cache.add("sailings", 1, LifetimeOptions::default()).await),
        "rate" => {
            let rate = Rate::new(10, Duration::from_secs(1), 10).unwrap();
            missing_in(cache.acquire_rate("search", 1, rate).await)
        }
        "delete" => missing_in(cache.delete("other").await),
        "invalidate tag" => missing_in(cache.invalidate_tag("fog").await),
        "clear" => missing_in(cache.clear_prefix("nothing").await),
        "lock" => missing_in(cache.hold_lock("berth", &LockOptions::default()).await),
        other => panic!("{other}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_right_allows_its_own_calls_over_both_transports() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    for right in RIGHTS {
        let scope = format!("{right}:ferrydesk/boards");
        let token = verax.run(&["token", "create", "--scope", &scope]).done();
        let client = verax.client_with(token.trim());
        let wire = client.cache("ferrydesk", "boards", CacheOptions::default());
        let http = client.cache_over_http("ferrydesk", "boards", CacheOptions::default());
        for (transport, cache) in [("wire", wire.unwrap()), ("http", http.unwrap())] {
            // A connection of the wire protocol opens the namespace first, which any right to its
            // entries or locks allows.
            let opens = ["read", "write", "invalidate", "lock", "manage"].contains(&right);
            for (name, allowing, named) in CALLS {
                let allowed = given(right).iter().any(|held| allowing.contains(held));
                let named = if transport == "wire" && !opens { "read" } else { named };
                let expected = (!allowed).then(|| named.to_owned());
                assert_eq!(
                    call(&cache, name).await,
                    expected,
                    "{name} with {scope} by {transport}"
                );
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_right_allows_its_own_commands() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    let profile = verax.scratch("profile.json");
    let text = r#"{"name": "boards", "namespace": "ferrydesk/boards", "keys": [{"pattern": {
        "pattern": "board/{harbor}", "values": {"harbor": {"list": ["aldermouth"]}}}}]}"#;
    std::fs::write(&profile, text).unwrap();
    let profile = profile.display().to_string();
    let commands: [(&[&str], &str); 7] = [
        (&["memory", "curve", "ferrydesk/boards"], "observe"),
        (&["namespace", "show", "ferrydesk/boards"], "observe"),
        (&["warm", "fill", "ferrydesk/boards", "--values", "harbor=a"], "warm"),
        (&["load", "run", &profile], "load"),
        (&["lock", "release", "ferrydesk/boards", "berth", "--force"], "manage"),
        (&["namespace", "change", "ferrydesk/boards", "--max-age", "5m"], "manage"),
        (&["activity", "list", "--tenant", "ferrydesk"], "manage"),
    ];
    for right in RIGHTS {
        let scope = format!("{right}:ferrydesk");
        let token = verax.run(&["token", "create", "--scope", &scope]).done();
        for (command, needed) in commands {
            let answer = verax.run_with(token.trim(), command, b"");
            assert_ne!(answer.code, 2, "{command:?}: {answer:?}");
            let expected = (!given(right).contains(&needed)).then(|| needed.to_owned());
            assert_eq!(missing(&answer.err), expected, "{command:?} with {scope}: {answer:?}");
        }
    }
    // Observing shows figures, but no keys: neither of entries nor of locks.
    verax.run(&["put", "ferrydesk/boards", "aldermouth", "[]"]).done();
    let boards = verax.client().namespace("ferrydesk", "boards").unwrap();
    boards.acquire_lock("aldermouth", &LockOptions::default()).await.unwrap();
    let waiting = async |right: &str| {
        let scope = format!("{right}:ferrydesk");
        let token = verax.run(&["token", "create", "--scope", &scope]).done();
        let shown =
            verax.run_with(token.trim(), &["namespace", "list", "ferrydesk", "--json"], b"");
        assert!(shown.out.contains("\"boards\"") && !shown.out.contains("aldermouth"), "{shown:?}");
        let url = format!("{}/v1/waiting/live", verax.url());
        let request = reqwest::Client::new().get(url).bearer_auth(token.trim()).send();
        let first = request.await.unwrap().chunk().await.unwrap().unwrap();
        String::from_utf8_lossy(&first).into_owned()
    };
    assert!(waiting("read").await.contains("aldermouth"));
    let observed = waiting("observe").await;
    assert!(observed.contains("locks") && !observed.contains("aldermouth"), "{observed}");
}
