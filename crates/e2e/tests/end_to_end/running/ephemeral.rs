//! A service that keeps nothing, as the tests of an application start it.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use nix::sys::signal::Signal;
use rstest::rstest;
use serde_json::Value;
use verax_client::{CacheOptions, Client, ClientOptions, FailureKind, LockOptions, LockOutcome};
use verax_e2e::{program, run, send, until};

const BOOTSTRAP: &str = r#"
[[tenants]]
name = "ferrydesk"
origins = [{ name = "timetable", url = "http://127.0.0.1:9/{key}" }]

[[tenants.namespaces]]
name = "boards"
policy = { max_age_seconds = 600 }

[[tenants.namespaces]]
name = "fares"
policy = { origin = { name = "timetable" } }

[[tokens]]
secret = "ferrydesk-tests"
scopes = ["read:ferrydesk", "write:ferrydesk"]
note = "tests"
"#;

/// Starts a service in a directory; waits for its ready file and returns what it says.
async fn start(directory: &Path) -> (Child, Value) {
    fs::write(directory.join("ferry.toml"), BOOTSTRAP).unwrap();
    // What an earlier process left behind must not count.
    fs::write(directory.join("ready.json"), "{}").unwrap();
    let child = Command::new(program())
        .args(["serve", "--ephemeral", "--bootstrap", "ferry.toml", "--ready-file", "ready.json"])
        .current_dir(directory)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let ready = directory.join("ready.json");
    let read = || serde_json::from_slice::<Value>(&fs::read(&ready).ok()?).ok();
    until("the service can be used", async || read().is_some_and(|r| r["http"].is_string())).await;
    (child, read().unwrap())
}

fn client(ready: &Value, token: &str) -> Client {
    let text = |name: &str| ready[name].as_str().unwrap().to_owned();
    let (url, wire, token) = (text("http"), text("wire"), Some(token.into()));
    Client::new(ClientOptions { url, wire, token, ..Default::default() }).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn it_begins_with_the_bootstrap_file_and_leaves_nothing() {
    let place = tempfile::tempdir().unwrap();
    let (mut child, ready) = start(place.path()).await;
    let tests = client(&ready, "ferrydesk-tests");
    let boards = tests.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    boards.put("board/saltmere", "07:10", Default::default()).await.unwrap();
    assert_eq!(boards.get("board/saltmere").await.unwrap().unwrap().value, "07:10");
    // Locks need an epoch, which needs records.
    let held = boards.hold_lock("berth-7", &LockOptions::default()).await.unwrap();
    let LockOutcome::Acquired(guard) = held else { unreachable!("nobody else has it") };
    guard.release().await.unwrap();
    let refused = tests.create_tenant("tideline").await.unwrap_err();
    assert_eq!(refused.failure(), Some(FailureKind::MissingScope));
    // The administrator of the ready file changes things as anywhere.
    let administrator = client(&ready, ready["token"].as_str().unwrap());
    administrator.create_tenant("tideline").await.unwrap();
    let namespaces = administrator.namespaces("ferrydesk").await.unwrap();
    let origins = namespaces.into_iter().map(|n| (n.name, n.policy.origin.map(|o| o.name)));
    let expected = [("boards".into(), None), ("fares".into(), Some("timetable".into()))];
    assert!(origins.eq(expected));

    send(child.id(), Signal::SIGTERM);
    assert!(child.wait().unwrap().success());
    let left: Vec<_> =
        fs::read_dir(place.path()).unwrap().map(|f| f.unwrap().file_name()).collect();
    assert_eq!(left, ["ferry.toml"]);
}

#[rstest]
#[case("tenants = 3", &["ferry.toml", "line 1"])]
#[case("[[tenants]]\nname = \"a\"\nnamespace = 1\n", &["line 3", "namespace"])]
#[case("[[tenants]]\nname = \"A\"\n", &["tenant A"])]
#[case("[[tokens]]\nsecret = \"short\"\nscopes = [\"admin\"]\n", &["token 1", "8 to 200"])]
#[case("[[tokens]]\nsecret = \"long enough\"\nscopes = [\"admin\"]\n", &["token 1", "visible"])]
#[case("[[tokens]]\nsecret = \"long-enough\"\nscopes = [\"read:b\"]\n", &["token 1", "read:b"])]
#[case(
    "[[tokens]]\nsecret = \"long-enough\"\nscopes = [\"admin\"]\n[[tokens]]\nsecret = \"long-enough\"\nscopes = [\"admin\"]\n",
    &["token 2", "exists already"]
)]
#[case(
    "[[tenants]]\nname = \"a\"\nnamespaces = [{ name = \"b\", policy = { origin = { name = \"c\" } } }]\n",
    &["namespace a/b", "c"]
)]
fn a_wrong_bootstrap_file_names_the_place(#[case] text: &str, #[case] says: &[&str]) {
    let place = tempfile::tempdir().unwrap();
    fs::write(place.path().join("ferry.toml"), text).unwrap();
    let arguments =
        ["serve", "--ephemeral", "--bootstrap", "ferry.toml", "--ready-file", "ready.json"];
    let answer = run(&[], place.path(), &arguments, b"");
    assert_eq!(answer.code, 2, "{}", answer.err);
    for part in says {
        assert!(answer.err.contains(part), "{part:?} is not in {}", answer.err);
    }
    assert!(!place.path().join("ready.json").exists());
}
