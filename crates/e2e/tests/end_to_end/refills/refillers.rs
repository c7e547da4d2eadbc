//! Services that refill the keys of a namespace without an origin when a warm run asks them to.

use std::collections::BTreeSet;
use std::io::Read;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use serde_json::Value;
use verax_client::{
    Cache, CacheOptions, ClientError, FailureKind, Lookup, Namespace, PermitOptions, ReadOptions,
    Refilled,
};
use verax_e2e::{Verax, until, until_some};

const PLACE: &str = "quayside/occupancy";

fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "quayside"]).done();
    verax.run(&["namespace", "create", PLACE, "--max-age", "10m"]).done();
    verax
}

fn options() -> CacheOptions {
    let (bound, connections) = (Duration::from_secs(5), 1);
    CacheOptions { bound, timeout: bound, connections, ..CacheOptions::default() }
}

/// A worker in this process, and the keys that it refilled.
struct Worker {
    keys: Arc<Mutex<BTreeSet<String>>>,
    task: tokio::task::JoinHandle<ClientError>,
}

impl Worker {
    fn start(cache: Cache) -> Self {
        let keys = Arc::new(Mutex::new(BTreeSet::new()));
        let noted = Arc::clone(&keys);
        let task = tokio::spawn(async move {
            let refill = |key: String| {
                noted.lock().unwrap().insert(key.clone());
                async move {
                    tokio::time::sleep(Duration::from_millis(20)).await;
                    match &*key {
                        "fails" => Err("the desk is closed"),
                        "nowhere" => Ok(Refilled::no_value()),
                        key => Ok(Refilled::value(format!("occupancy of {key}"))),
                    }
                }
            };
            cache.serve_refills(2, refill).await
        });
        Self { keys, task }
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn present(namespace: &Namespace) -> u64 {
    namespace.permits().await.unwrap().refillers
}

/// Runs `verax warm fill` over some keys, and returns the run.
fn fill(verax: &Verax, keys: &[String], more: &[&str]) -> Value {
    let mut arguments = vec!["warm", "fill", PLACE, "--json"];
    arguments.extend(keys.iter().flat_map(|key| ["--key", key.as_str()]));
    arguments.extend(more);
    let answer = verax.run(&arguments);
    serde_json::from_str(&answer.out).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_keys_of_a_run_are_spread_over_the_services_that_wait() {
    let verax = started();
    let namespace = verax.client().namespace("quayside", "occupancy").unwrap();
    namespace.put("k0", "as it was", Default::default()).await.unwrap();
    let over_wire =
        Worker::start(verax.client().cache("quayside", "occupancy", options()).unwrap());
    let over_http =
        Worker::start(verax.client().cache_over_http("quayside", "occupancy", options()).unwrap());
    until("both workers wait with two requests each", async || present(&namespace).await == 4)
        .await;

    let mut keys: Vec<String> = (0..40).map(|n| format!("k{n}")).collect();
    keys.extend(["fails".to_owned(), "nowhere".to_owned()]);
    let run = fill(&verax, &keys, &["--concurrency", "4"]);
    assert_eq!(
        (&run["stored"], &run["failed"], &run["no_value"]),
        (&40.into(), &1.into(), &1.into())
    );
    assert_eq!(run["failure_counts"][0]["kind"], "given-up");
    let by_wire = over_wire.keys.lock().unwrap().clone();
    let by_http = over_http.keys.lock().unwrap().clone();
    assert!(by_wire.len() >= 5 && by_http.len() >= 5, "{} {}", by_wire.len(), by_http.len());
    // Each key was asked for once; one that failed may have been retried elsewhere.
    let both: Vec<_> = by_wire.intersection(&by_http).filter(|key| *key != "fails").collect();
    assert!(both.is_empty(), "{both:?}");
    let stored = namespace.get("k0").await.unwrap().unwrap();
    assert_eq!(stored.value, r#""occupancy of k0""#);
    // What is known to be missing is kept, too.
    let missing = namespace.look_up("nowhere", ReadOptions::default()).await.unwrap();
    assert!(matches!(missing, Lookup::NoValue), "{missing:?}");

    // The estimate counts who waits, and fresh entries are left.
    until("all wait again", async || present(&namespace).await == 4).await;
    let fresh = fill(&verax, &keys[..10], &["--skip-fresh"]);
    assert_eq!((&fresh["skipped"], &fresh["stored"]), (&10.into(), &0.into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_of_a_service_that_is_gone_goes_to_another_and_the_old_copy_stays_readable() {
    let verax = started();
    let namespace = verax.client().namespace("quayside", "occupancy").unwrap();
    namespace.put("k", "before", Default::default()).await.unwrap();
    // One that takes a key and is never heard of again.
    let lost = {
        let namespace = namespace.clone();
        tokio::spawn(async move {
            let (lease, wait) = (Duration::from_millis(700), Duration::from_secs(60));
            let options = PermitOptions { lease, wait, ..PermitOptions::default() };
            namespace.await_refill(&options).await
        })
    };
    until("it waits", async || present(&namespace).await == 1).await;
    let run = {
        let verax = verax.client();
        let namespace = verax.namespace("quayside", "occupancy").unwrap();
        let request = serde_json::json!({ "keys": [{ "list": ["k"] }], "retries": 3 });
        let request = serde_json::from_value(request).unwrap();
        namespace.start_warm_run(&request).await.unwrap()
    };
    let grant = lost.await.unwrap().unwrap().unwrap();
    assert_eq!(grant.key, "k");
    assert_eq!(namespace.get("k").await.unwrap().unwrap().value, "before");
    let worker = Worker::start(verax.client().cache("quayside", "occupancy", options()).unwrap());
    let client = verax.client();
    let ended = until_some("the run is done", async || {
        client.warm_run(run.id).await.ok().filter(|run| run.state == "done")
    })
    .await;
    assert_eq!((ended.stored, ended.failed), (1, 0));
    assert_eq!(worker.keys.lock().unwrap().len(), 1);
    assert_eq!(namespace.get("k").await.unwrap().unwrap().value, r#""occupancy of k""#);
    // The permit of the one that was lost is worth nothing any more.
    let late = namespace.put_with_permit("k", "late", grant.permit, Default::default()).await;
    let failure = late.unwrap_err().failure();
    assert!(
        matches!(failure, Some(FailureKind::PermitExpired | FailureKind::PermitVoided)),
        "{failure:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_stops_waiting_leaves_no_key_behind() {
    let verax = started();
    let namespace = verax.client().namespace("quayside", "occupancy").unwrap();
    let options = |seconds| {
        let wait = Duration::from_secs(seconds);
        PermitOptions { wait, ..PermitOptions::default() }
    };
    // No run asks for a key: the reply comes immediately, and after the wait.
    for seconds in [0, 1] {
        assert_eq!(namespace.await_refill(&options(seconds)).await.unwrap(), None);
    }
    // A caller that is gone leaves the queue, over both transports.
    let cache = verax.client().cache("quayside", "occupancy", self::options()).unwrap();
    let gone = {
        let namespace = namespace.clone();
        tokio::spawn(async move { namespace.await_refill(&options(60)).await })
    };
    let worker = Worker::start(cache);
    until("three requests wait", async || present(&namespace).await == 3).await;
    gone.abort();
    drop(worker);
    until("nobody waits", async || present(&namespace).await == 0).await;
    let lease = Duration::from_millis(9);
    let too_short = PermitOptions { lease, ..options(0) };
    let too_short = namespace.await_refill(&too_short).await.unwrap_err();
    assert_eq!(too_short.failure(), Some(FailureKind::Invalid), "{too_short}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_not_refill_is_told_and_a_revoked_token_waits_no_longer() {
    let verax = started();
    let created = verax.run(&["token", "create", "--scope", "read:quayside", "--json"]).json();
    let reads = verax.client_with(created["secret"].as_str().unwrap());
    let reader = reads.cache("quayside", "occupancy", options()).unwrap();
    let refused =
        reader.serve_refills(1, |_| std::future::ready(Ok::<_, ()>(Refilled::value(1)))).await;
    assert_eq!(refused.failure(), Some(FailureKind::MissingScope), "{refused}");

    let scopes = ["--scope", "read:quayside", "--scope", "write:quayside", "--json"];
    let created = verax.run(&[&["token", "create"], &scopes[..]].concat()).json();
    let namespace = verax.client().namespace("quayside", "occupancy").unwrap();
    for over_http in [false, true] {
        let both = verax.client_with(created["secret"].as_str().unwrap());
        let cache = match over_http {
            true => both.cache_over_http("quayside", "occupancy", options()).unwrap(),
            false => both.cache("quayside", "occupancy", options()).unwrap(),
        };
        let calls = Arc::new(AtomicU64::new(0));
        let counted = Arc::clone(&calls);
        let serving = tokio::spawn(async move {
            let refill = |_| {
                counted.fetch_add(1, Ordering::Relaxed);
                std::future::ready(Ok::<_, ()>(Refilled::value(1)))
            };
            cache.serve_refills(1, refill).await
        });
        if !over_http {
            until("it waits", async || present(&namespace).await == 1).await;
            verax.run(&["token", "revoke", &created["id"].to_string()]).done();
        }
        let ended = serving.await.unwrap();
        assert_eq!(ended.failure(), Some(FailureKind::NotSignedIn), "{ended}");
        until("nobody waits", async || present(&namespace).await == 0).await;
        assert_eq!(calls.load(Ordering::Relaxed), 0);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deleted_namespace_and_one_with_an_origin_have_nothing_to_ask_for() {
    let verax = started();
    let namespace = verax.client().namespace("quayside", "occupancy").unwrap();
    let worker = Worker::start(verax.client().cache("quayside", "occupancy", options()).unwrap());
    until("it waits", async || present(&namespace).await == 2).await;
    // Services set the max-age of what they store.
    let refused = verax.run(&["warm", "fill", PLACE, "--key", "k", "--max-age", "1m"]);
    assert!(refused.err.contains("set the max-age of what they store"), "{}", refused.err);
    verax.run(&["namespace", "delete", PLACE, "--yes"]).done();
    let mut worker = worker;
    let ended = (&mut worker.task).await.unwrap();
    assert_eq!(ended.failure(), Some(FailureKind::NotFound), "{ended}");

    let origin = ["origin", "create", "quayside/desk", "--at", "http://127.0.0.1:9/{key}"];
    verax.run(&origin).done();
    verax.run(&["namespace", "create", PLACE, "--origin", "desk"]).done();
    let cache = verax.client().cache("quayside", "occupancy", options()).unwrap();
    let refused =
        cache.serve_refills(1, |_| std::future::ready(Ok::<_, ()>(Refilled::value(1)))).await;
    assert_eq!(refused.failure(), Some(FailureKind::HasOrigin), "{refused}");
}

/// A program that refills, and ends with the test.
struct Program(Child);

impl Program {
    fn start(command: &mut Command, verax: &Verax) -> Self {
        let started = command
            .env("VERAX_WIRE_URL", verax.wire())
            .env("VERAX_TOKEN", verax.token())
            .stdout(Stdio::piped())
            .spawn();
        Self(started.unwrap())
    }

    /// Ends it, and returns what it printed.
    fn end(mut self) -> String {
        self.0.kill().unwrap();
        let mut printed = String::new();
        self.0.stdout.take().unwrap().read_to_string(&mut printed).unwrap();
        self.0.wait().unwrap();
        printed
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_workers_of_the_examples_share_a_run_and_without_any_a_run_fails() {
    let verax = started();
    let namespace = verax.client().namespace("quayside", "occupancy").unwrap();
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    // Without one, a run does not even begin.
    let refused = verax.run(&["warm", "fill", PLACE, "--key", "k"]);
    assert!(refused.err.contains("no service waits to refill its keys"), "{}", refused.err);
    let rust = Program::start(
        &mut Command::new(verax_e2e::program().with_file_name("examples/refill_worker")),
        &verax,
    );
    let python = Program::start(
        Command::new("python3")
            .args(["-B", &format!("{root}/recipes/refill_worker.py")])
            .env("PYTHONPATH", format!("{root}/clients/python")),
        &verax,
    );
    until("both wait with four requests each", async || present(&namespace).await == 8).await;
    let mut keys: Vec<String> = (0..60).map(|n| format!("occupancy/harbor-{n}")).collect();
    keys.push("occupancy/nowhere".into());
    let run = fill(&verax, &keys, &["--concurrency", "8"]);
    assert_eq!((&run["stored"], &run["no_value"]), (&60.into(), &1.into()), "{run}");
    let (rust, python) = (rust.end(), python.end());
    // Lines of several threads may run into each other.
    let lines = |text: &str| text.matches("refilling").count();
    // One whose value came late may have been asked for twice.
    let all = lines(&rust) + lines(&python);
    assert!((61..=65).contains(&all), "{all} of 61");
    assert!(lines(&rust) >= 8 && lines(&python) >= 8, "{} {}", lines(&rust), lines(&python));

    // They are expected to come back for a while.
    let run = fill(&verax, &["k".to_owned()], &["--retries", "0"]);
    assert_eq!(run["failure_counts"][0]["kind"], "no-refiller", "{run}");
    let refused = verax.run(&["warm", "fill", PLACE, "--key", "k"]);
    assert!(refused.err.contains("no service waits to refill its keys"), "{}", refused.err);
}
