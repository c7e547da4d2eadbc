//! Load runs where the two lanes cannot simply be read.

use futures_util::StreamExt;
use serde_json::{from_value, json};
use verax_client::{Client, ClientOptions};
use verax_e2e::{HeldOrigin, Verax};

/// The service's own load runs trust the certificate that it shows, whatever names that has and
/// whoever signed it.
#[tokio::test(flavor = "multi_thread")]
async fn load_runs_read_under_a_certificate_of_another_name() {
    let scratch = tempfile::tempdir().unwrap();
    let at = |name: &str| scratch.path().join(name).display().to_string();
    let authority = rcgen::KeyPair::generate().unwrap();
    let mut params = rcgen::CertificateParams::new(Vec::<String>::new()).unwrap();
    params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let authority = rcgen::Issuer::new(params, authority);
    let key = rcgen::KeyPair::generate().unwrap();
    let names = vec!["cache.ferries.example".to_owned()];
    let leaf = rcgen::CertificateParams::new(names).unwrap().signed_by(&key, &authority).unwrap();
    std::fs::write(at("key.pem"), key.serialize_pem()).unwrap();
    std::fs::write(at("cert.pem"), leaf.pem()).unwrap();
    let origin = HeldOrigin::start("x").await;
    origin.let_go(1_000_000);
    let verax = Verax::serve(&["--tls-certificate", &at("cert.pem"), "--tls-key", &at("key.pem")]);
    let client = Client::new(ClientOptions {
        url: verax.url().to_owned(),
        pinned: Some(at("cert.pem").into()),
        token: Some(verax.token().into()),
        ..Default::default()
    });
    let client = client.unwrap();
    client.create_tenant("ferrydesk").await.unwrap();
    let desk = from_value(json!({ "name": "desk", "url": origin.at() })).unwrap();
    client.create_origin("ferrydesk", &desk).await.unwrap();
    let boards =
        from_value(json!({ "name": "boards", "policy": { "origin": { "name": "desk" } } }))
            .unwrap();
    client.create_namespace("ferrydesk", &boards).await.unwrap();
    let request = json!({ "profile": {
        "name": "quick", "namespace": "ferrydesk/boards", "duration_seconds": 2.0,
        "warm_up_seconds": 0.0, "arrivals": { "clients": 1 }, "keys": [{ "list": ["a"] }],
    } });
    let run = client.start_load_run(&from_value(request).unwrap()).await.unwrap();
    let mut changes = Box::pin(client.watch_run::<verax_api::LoadRun>(run.id).await.unwrap());
    let mut last = run;
    while let Some(change) = changes.next().await {
        last = change.unwrap();
    }
    assert_eq!((last.state.as_str(), &last.reason), ("done", &None));
    let cached = last.report.unwrap().lanes[0].figures;
    assert!(cached.requests > 0 && cached.errors == 0, "{cached:?}");
    // Another certificate is not the pinned one.
    let other = rcgen::generate_simple_self_signed(vec!["127.0.0.1".into()]).unwrap();
    std::fs::write(at("other.pem"), other.cert.pem()).unwrap();
    let stranger = Client::new(ClientOptions {
        url: verax.url().to_owned(),
        pinned: Some(at("other.pem").into()),
        ..Default::default()
    });
    assert!(stranger.unwrap().ready().await.is_err());
}

/// A run of which every read of a lane fails has nothing to compare, and says so.
#[tokio::test(flavor = "multi_thread")]
async fn a_load_run_that_reads_nothing_fails() {
    // A port that nobody listens on.
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    let at = format!("http://{nobody}/{{key}}");
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &at]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--origin", "desk"]).done();
    let profile = verax.scratch("quick.json");
    let quick = json!({
        "name": "quick", "namespace": "ferrydesk/boards", "duration_seconds": 1.0,
        "warm_up_seconds": 0.0, "arrivals": { "clients": 1 }, "keys": [{ "list": ["a"] }],
    });
    std::fs::write(&profile, quick.to_string()).unwrap();
    let run = verax.run(&["load", "run", &profile.display().to_string()]);
    assert_eq!(run.code, 1);
    assert!(run.err.contains("every request of the lane cached failed"), "{}", run.err);
}

/// A namespace over an origin, and a profile of one key in it.
async fn prepared(verax: &Verax, max_age: &str, seconds: f64) -> (HeldOrigin, String) {
    let origin = HeldOrigin::start("x").await;
    origin.let_go(10_000_000);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    let boards = ["namespace", "create", "ferrydesk/boards", "--origin", "desk"];
    verax.run(&[&boards[..], &["--max-age", max_age]].concat()).done();
    let profile = verax.scratch("quick.json");
    let quick = json!({
        "name": "quick", "namespace": "ferrydesk/boards", "duration_seconds": seconds,
        "warm_up_seconds": 0.2, "arrivals": { "clients": 1, "think_seconds": 0.002 }, "keys": [{ "list": ["a"] }],
    });
    std::fs::write(&profile, quick.to_string()).unwrap();
    (origin, profile.display().to_string())
}

/// The doubts about a run, by name. A busy host may disturb any run, and slow its generator.
fn doubts(run: &serde_json::Value) -> Vec<&str> {
    let doubts = run["report"]["doubts"].as_array().unwrap().iter();
    doubts
        .map(|doubt| doubt["kind"].as_str().unwrap())
        .filter(|kind| !matches!(*kind, "disturbed" | "generator-bound"))
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_over_a_cold_cache_is_not_comparable() {
    let verax = Verax::ephemeral(&[]);
    let (_origin, profile) = prepared(&verax, "1ms", 1.0).await;
    let run = verax.run(&["load", "run", &profile]);
    assert_eq!(run.code, 6, "{run:?}");
    assert!(run.err.contains("not comparable: the cache was cold"), "{}", run.err);
    assert!(!run.out.contains("faster than direct"), "{}", run.out);
    assert!(verax.run(&["load", "list"]).done().contains("not comparable"));
    // With a cache that is warm, it says how sure it is.
    verax.run(&["namespace", "change", "ferrydesk/boards", "--max-age", "1h"]).done();
    let long = ["load", "run", &profile, "--duration", "9s"];
    let run = verax.run(&long);
    assert!(
        run.out.contains("with 95 % confidence") || run.err.contains("not comparable"),
        "{run:?}"
    );
    let run = verax.run(&[&long[..], &["--json"]].concat());
    let run: serde_json::Value = serde_json::from_str(&run.out).unwrap();
    assert!(doubts(&run).is_empty(), "{run}");
    let comparison = &run["report"]["comparisons"][0];
    let (low, high) =
        (&comparison["throughput_interval"]["low"], &comparison["throughput_interval"]["high"]);
    let times = comparison["times_throughput"].as_f64().unwrap();
    assert!((low.as_f64().unwrap()..=high.as_f64().unwrap()).contains(&times), "{comparison}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stopped_run_is_not_comparable() {
    let verax = Verax::ephemeral(&[]);
    let (_origin, profile) = prepared(&verax, "1h", 600.0).await;
    let client = verax.client();
    let run = std::thread::scope(|scope| {
        let running = scope.spawn(|| verax.run(&["load", "run", &profile]));
        let stopped = scope.spawn(|| {
            let runtime = tokio::runtime::Runtime::new().unwrap();
            runtime.block_on(verax_e2e::until("it has measured a second", async || {
                let runs = client.runs::<verax_api::LoadRun>().await.unwrap();
                runs.first().is_some_and(|run| run.report.is_some())
            }));
            verax.run(&["load", "stop", "1"]).done();
        });
        stopped.join().unwrap();
        running.join().unwrap()
    });
    assert_eq!(run.code, 7, "{run:?}");
    let runs = client.runs::<verax_api::LoadRun>().await.unwrap();
    let kinds: Vec<_> = runs[0].report.iter().flat_map(|report| &report.doubts).collect();
    assert!(kinds.iter().any(|doubt| doubt.kind == "stopped"), "{kinds:?}");
}
