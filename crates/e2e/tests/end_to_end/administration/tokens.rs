//! Tokens that end by themselves, are replaced, and tell when they were used.

use rstest::rstest;
use serde_json::Value;
use verax_client::{Cache, CacheOptions, ClientError, FailureKind, PutOptions};
use verax_e2e::{Verax, until};

fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    verax
}

fn created(verax: &Verax, more: &[&str]) -> Value {
    let scopes = ["--scope", "read:ferrydesk", "--scope", "write:ferrydesk"];
    verax.run(&[&["token", "create", "--json"], &scopes[..], more].concat()).json()
}

/// Handles with a token over both transports, connected.
async fn handles(verax: &Verax, token: &Value) -> [Cache; 2] {
    let client = verax.client_with(token["secret"].as_str().unwrap());
    let options = CacheOptions::default;
    let wire = client.cache("ferrydesk", "boards", options()).unwrap();
    let http = client.cache_over_http("ferrydesk", "boards", options()).unwrap();
    for handle in [&wire, &http] {
        handle.put("k", "v", PutOptions::default()).await.unwrap();
    }
    [wire, http]
}

fn is_refused(outcome: Result<impl Sized, ClientError>) -> bool {
    outcome.is_err_and(|error| error.failure() == Some(FailureKind::NotSignedIn))
}

fn listed(verax: &Verax, id: &Value) -> Value {
    let tokens = verax.run(&["token", "list", "--json"]).json();
    tokens.as_array().unwrap().iter().find(|token| token["id"] == *id).unwrap().clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_ends_at_its_expiry_also_on_open_connections() {
    let verax = started();
    let token = created(&verax, &["--expires-in", "5s"]);
    let open = handles(&verax, &token).await;
    for handle in &open {
        until("the token has ended", async || is_refused(handle.get("k").await)).await;
    }
    let shown = listed(&verax, &token["id"]);
    assert!(shown["expires_at"].is_string() && shown["revoked_at"].is_null(), "{shown}");
    // One without an expiry stays.
    let lasting = created(&verax, &[]);
    let [wire, _] = handles(&verax, &lasting).await;
    assert!(wire.get("k").await.unwrap().is_some());
    assert!(listed(&verax, &lasting["id"])["expires_at"].is_null());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rotated_token_overlaps_with_its_follower() {
    let verax = started();
    let token = created(&verax, &["--note", "desk"]);
    let old = handles(&verax, &token).await;
    let id = token["id"].to_string();
    let rotated = verax.run(&["token", "rotate", &id, "--overlap", "10m", "--json"]).json();
    assert_eq!(rotated["token"]["scopes"], token["scopes"]);
    assert_eq!(
        (&rotated["token"]["note"], &rotated["previous"]["id"]),
        (&token["note"], &token["id"])
    );
    let new = handles(&verax, &rotated).await;
    for handle in old.iter().chain(&new) {
        assert!(handle.get("k").await.unwrap().is_some(), "both are valid");
    }
    // Once more, without an overlap.
    verax.run(&["token", "rotate", &id, "--overlap", "0s"]).done();
    for handle in &old {
        until("the previous token has ended", async || is_refused(handle.get("k").await)).await;
    }
    assert!(new[0].get("k").await.unwrap().is_some());
    let unknown = verax.run(&["token", "rotate", "99"]);
    assert!(unknown.code != 0 && unknown.err.contains("99"), "{unknown:?}");
    let activity = verax.run(&["activity", "list", "--json"]).json();
    assert!(activity.to_string().contains("token.rotate"), "{activity}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_used_token_tells_when() {
    let verax = started();
    let [used, unused] = [created(&verax, &[]), created(&verax, &[])];
    assert!(listed(&verax, &used["id"])["last_used_at"].is_null());
    let [wire, _] = handles(&verax, &used).await;
    until("the use is noted", async || listed(&verax, &used["id"])["last_used_at"].is_string())
        .await;
    assert!(listed(&verax, &unused["id"])["last_used_at"].is_null());
    assert!(wire.get("k").await.unwrap().is_some());
}

#[rstest]
#[case(&["--expires-in", "4000d"], "ten years")]
#[case(&["--expires-in", "soon"], "soon")]
fn a_wrong_expiry_is_refused(#[case] more: &[&str], #[case] says: &str) {
    let verax = started();
    let refused = verax.run(&[&["token", "create", "--scope", "read:ferrydesk"], more].concat());
    assert!(refused.code != 0 && refused.err.contains(says), "{refused:?}");
    assert_eq!(verax.run(&["token", "list", "--json"]).json().as_array().unwrap().len(), 1);
}

/// Signs in as a browser does; returns the cookie.
async fn signed_in(verax: &Verax, token: &str) -> String {
    let url = format!("{}/v1/session", verax.url());
    let request = reqwest::Client::new().post(url).json(&serde_json::json!({ "token": token }));
    let response = request.send().await.unwrap();
    let cookie = response.headers()["set-cookie"].to_str().unwrap();
    cookie.split(';').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn live_sessions_are_listed_and_ended() {
    let verax = started();
    let http = reqwest::Client::new();
    let as_session = |cookie: &str, path: &str| {
        let request = http.get(format!("{}{path}", verax.url()));
        request.header("cookie", cookie).header("verax-console", "1")
    };
    let (mine, other) = (created(&verax, &["--note", "desk"]), created(&verax, &[]));
    let secret = |token: &Value| token["secret"].as_str().unwrap().to_owned();
    let admin = signed_in(&verax, &verax.token()).await;
    let desk = signed_in(&verax, &secret(&mine)).await;
    let stranger = signed_in(&verax, &secret(&other)).await;
    // Everybody sees and ends the sessions of their own token; administrators all of them.
    let listed = async |cookie: &str| {
        let response = as_session(cookie, "/v1/sessions").send().await.unwrap();
        response.json::<Value>().await.unwrap()["items"].as_array().unwrap().clone()
    };
    let own = listed(&desk).await;
    assert_eq!(own.len(), 1, "{own:?}");
    assert!(own[0]["is_own"] == true && own[0]["token"] == mine["id"], "{own:?}");
    let all = listed(&admin).await;
    assert_eq!(all.len(), 3, "{all:?}");
    let id = own[0]["id"].to_string();
    let refused = verax.run_with(&secret(&other), &["session", "end", &id], b"");
    assert!(refused.code == 3 || refused.err.contains("there is no session"), "{refused:?}");
    // The stream of an ended session ends, and its cookie opens nothing any more.
    let mut stream = as_session(&desk, "/v1/live").send().await.unwrap();
    assert!(stream.chunk().await.unwrap().is_some());
    verax.run(&["session", "end", &id]).done();
    let ends = async { while let Ok(Some(_)) = stream.chunk().await {} };
    tokio::time::timeout(std::time::Duration::from_secs(10), ends).await.unwrap();
    let response = as_session(&desk, "/v1/sessions").send().await.unwrap();
    assert_eq!(response.status().as_u16(), 401);
    assert_eq!(listed(&stranger).await.len(), 1);
    let listing = verax.run(&["session", "list"]).done();
    assert!(listing.contains("administrator") && !listing.contains("(desk)"), "{listing}");
    let activity = verax.run(&["activity", "list", "--json"]).json();
    assert_eq!(activity[0]["action"], "session.end", "{activity}");
    // A session ends with its token.
    verax.run(&["token", "revoke", &other["id"].to_string()]).done();
    assert_eq!(listed(&admin).await.len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_comes_from_standard_input() {
    let verax = Verax::ephemeral(&[]);
    let list = ["--token-file", "-", "tenant", "create", "ferrydesk"];
    verax.run_with("", &list, format!("{}\n", verax.token()).as_bytes()).done();
    let refused = verax.run_with(&verax.token(), &list, b"nonsense");
    assert_eq!(refused.code, 4, "standard input comes before the environment: {refused:?}");
}
