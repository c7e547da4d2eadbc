//! Reports of values that clients cannot decode.

use rstest::rstest;
use verax_client::{CacheOptions, ClientError, FailureKind, PutOptions};
use verax_e2e::{HeldOrigin, Verax};

const PLACE: &str = "ferrydesk/boards";

fn started() -> Verax {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", PLACE, "--max-age", "1h"]).done();
    verax
}

#[rstest]
#[case::wire(false)]
#[case::http(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_report_removes_the_value_that_it_is_about_and_no_other(#[case] over_http: bool) {
    let verax = started();
    let cache_of = |token: &str| {
        let (client, options) = (verax.client_with(token), CacheOptions::default());
        match over_http {
            true => client.cache_over_http("ferrydesk", "boards", options).unwrap(),
            false => client.cache("ferrydesk", "boards", options).unwrap(),
        }
    };
    let cache = cache_of(&verax.token());
    let key = "board/saltmere";
    let put = async |value: &'static str| cache.put(key, value, PutOptions::default()).await;
    let tag = async || {
        let namespace = verax.client().namespace("ferrydesk", "boards").unwrap();
        namespace.show(key).await.unwrap().unwrap().entity_tag
    };
    put("{\"delay\":").await.unwrap();
    let damaged = tag().await;
    // Somebody repairs it meanwhile: the report is about another value.
    put("{\"delay\": 7}").await.unwrap();
    assert!(!cache.report_damage(key, &damaged, "it ends early").await.unwrap());
    assert!(cache.get(key).await.unwrap().is_some());
    // Three times it is removed, the fourth time it stays: the client may be what is broken.
    for round in 0..4 {
        put("{\"delay\":").await.unwrap();
        let removed = cache.report_damage(key, &damaged, "it ends early").await.unwrap();
        assert_eq!(removed, round < 3, "round {round}");
        assert_eq!(cache.get(key).await.unwrap().is_none(), removed);
    }
    // Another key is not limited with it.
    cache.put("board/brinewick", "{\"delay\":", PutOptions::default()).await.unwrap();
    assert!(cache.report_damage("board/brinewick", &damaged, "").await.unwrap());
    let reports = verax.run(&["damage", "list", PLACE, "--json"]).json();
    assert_eq!((reports["reports"].as_u64(), reports["removed"].as_u64()), (Some(6), Some(4)));
    assert_eq!(reports["items"][1]["reason"], "it ends early", "{reports}");
    let _ = rustls::crypto::ring::default_provider().install_default();
    let request = reqwest::Client::new().get(format!("{}/metrics", verax.url()));
    let response = request.bearer_auth(verax.token()).send().await.unwrap();
    let metrics = response.text().await.unwrap();
    assert!(
        metrics.contains("verax_damage_reports_total{tenant=\"ferrydesk\",namespace=\"boards\"} 6")
    );
    // A report removes, so it needs the right to.
    let reader = verax.run(&["token", "create", "--scope", "read:ferrydesk"]).done();
    let refused = cache_of(reader.trim()).report_damage(key, &damaged, "").await.unwrap_err();
    assert_eq!(refused.failure(), Some(FailureKind::MissingScope), "{refused}");
    let wrong = cache.report_damage(key, "\"none\"", "").await.unwrap_err();
    assert!(matches!(wrong, ClientError::Invalid(_)), "{wrong}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reported_value_is_refilled_by_the_next_read() {
    let verax = started();
    let origin = HeldOrigin::start("{\"delay\": 7}").await;
    origin.let_go(1_000);
    verax.run(&["put", PLACE, "board", "{\"delay\":", "--type", "application/json"]).done();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    verax.run(&["namespace", "change", PLACE, "--origin", "desk"]).done();
    assert_eq!(verax.run(&["get", PLACE, "board"]).done(), "{\"delay\":");
    let reported = verax.run(&["damage", "report", PLACE, "board", "--reason", "it ends early"]);
    assert!(reported.done().contains("removed"));
    assert_eq!(verax.run(&["get", PLACE, "board"]).done(), "{\"delay\": 7}");
    let listed = verax.run(&["damage", "list", PLACE]).done();
    assert!(listed.contains("it ends early") && listed.contains("1 removed"), "{listed}");
    let none = verax.run(&["damage", "report", PLACE, "nothing"]).done();
    assert!(none.contains("there is no entry"), "{none}");
    // Without a report, a check finds what is damaged and reads it anew.
    verax.run(&["put", PLACE, "board/2", "[1,", "--type", "application/json"]).done();
    let checked = verax.run(&["check", PLACE, "--refill"]);
    assert!(checked.code == 0 && checked.out.contains("refilled"), "{checked:?}");
    assert!(verax.run(&["check", PLACE]).done().contains("none is damaged"));
}
