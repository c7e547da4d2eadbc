//! Load runs where the two lanes cannot simply be read.

#![allow(clippy::unwrap_used)]

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
        "warm_up_seconds": 0.0, "clients": 1, "values": { "key": { "list": ["a"] } },
    } });
    let run = client.start_load_run(&from_value(request).unwrap()).await.unwrap();
    let mut changes = Box::pin(client.watch_run::<verax_api::LoadRun>(run.id).await.unwrap());
    let mut last = run;
    while let Some(change) = changes.next().await {
        last = change.unwrap();
    }
    assert_eq!((last.state.as_str(), &last.reason), ("done", &None));
    let cached = last.report.unwrap().cached;
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
        "warm_up_seconds": 0.0, "clients": 1, "values": { "key": { "list": ["a"] } },
    });
    std::fs::write(&profile, quick.to_string()).unwrap();
    let run = verax.run(&["load", "run", &profile.display().to_string()]);
    assert_eq!(run.code, 1);
    assert!(run.err.contains("every read of the cached lane failed"), "{}", run.err);
}
