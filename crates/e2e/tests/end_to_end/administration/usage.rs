//! Usage over time, across restarts; advice on lifetimes.

use std::time::Duration;

use serde_json::Value;
use verax_client::{CacheOptions, PutOptions};
use verax_e2e::{HeldOrigin, Verax, until, until_some};

const PLACE: &str = "ferrydesk/boards";

fn prepared(verax: &Verax) {
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["tenant", "create", "tideline"]).done();
    verax.run(&["namespace", "create", PLACE, "--max-age", "1h"]).done();
    verax.run(&["namespace", "create", "tideline/levels"]).done();
}

fn used(verax: &Verax, arguments: &[&str]) -> Value {
    verax.run(&[&["usage", "--json"][..], arguments].concat()).json()
}

fn sum(usage: &Value, of: &str) -> u64 {
    usage["items"].as_array().unwrap().iter().map(|item| item[of].as_u64().unwrap()).sum()
}

async fn put_and_read(verax: &Verax, reads: usize) {
    let cache = verax.client().cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    cache.put("board", vec![7; 1_000], PutOptions::default()).await.unwrap();
    for _ in 0..reads {
        assert!(cache.get("board").await.unwrap().is_some());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn usage_is_kept_by_tenant_and_namespace_and_survives_a_restart() {
    let verax = Verax::serve(&[]);
    prepared(&verax);
    put_and_read(&verax, 50).await;
    let verax = verax.restart();
    let day = used(&verax, &[PLACE, "--step", "1d"]);
    assert_eq!(day["step_seconds"], 86_400);
    assert_eq!((sum(&day, "reads"), sum(&day, "hits")), (50, 50), "{day}");
    assert_eq!((sum(&day, "received_bytes"), sum(&day, "sent_bytes")), (1_000, 50_000));
    assert_eq!(sum(&day, "entries"), 1);
    // The slot goes on in the new process.
    put_and_read(&verax, 30).await;
    let verax = verax.restart();
    for of in [&[PLACE][..], &["ferrydesk"], &[]] {
        for step in ["10s", "1m", "15m", "1d"] {
            let usage = used(&verax, &[of, &["--step", step]].concat());
            assert_eq!(
                (sum(&usage, "reads"), sum(&usage, "received_bytes")),
                (80, 2_000),
                "{of:?}"
            );
        }
    }
    assert_eq!(sum(&used(&verax, &["tideline", "--step", "1d"]), "reads"), 0);
    // The finest step by default, and only within the range.
    assert_eq!(used(&verax, &[PLACE])["step_seconds"], 10);
    assert_eq!(used(&verax, &[PLACE, "--since", "3h"])["step_seconds"], 60);
    let before = used(&verax, &[PLACE, "--since", "5h", "--until", "4h"]);
    assert_eq!(before["items"].as_array().unwrap().len(), 0);
    let people = verax.run(&["usage", PLACE, "--step", "1d"]).done();
    assert!(people.contains("hit ratio") && people.contains("100.0 %"), "{people}");
    let lines = verax.run(&["usage", PLACE, "--step", "1d", "--csv"]).done();
    let fields: Vec<_> = lines.lines().map(|line| line.split(',').count()).collect();
    assert_eq!(fields, [13, 13], "{lines}");
    // Who may not observe does not learn.
    let locker = verax.run(&["token", "create", "--scope", "lock:ferrydesk"]).done();
    for of in [&[PLACE][..], &["ferrydesk"], &[]] {
        let refused = verax.run_with(locker.trim(), &[&["usage"][..], of].concat(), b"");
        assert_eq!(refused.code, 4, "{refused:?}");
    }
    let observer = verax.run(&["token", "create", "--scope", "observe:ferrydesk/boards"]).done();
    assert_eq!(verax.run_with(observer.trim(), &["usage", PLACE], b"").code, 0);
    assert_eq!(verax.run_with(observer.trim(), &["usage", "ferrydesk"], b"").code, 4);
    for (wrong, why) in [
        (&["--since", "1h", "--until", "2h"][..], "the range is empty"),
        (&["--since", "400d", "--step", "10s"], "use a longer step"),
        (&["--since", "2h", "nowhere/boards"], "no namespace"),
    ] {
        let refused = verax.run(&[&["usage"][..], wrong].concat());
        assert!(refused.code >= 3 && refused.err.contains(why), "{wrong:?}: {refused:?}");
    }
    // A tenant created anew under the name of one that is gone does not see its usage.
    verax.run(&["namespace", "delete", PLACE, "--yes"]).done();
    verax.run(&["tenant", "delete", "ferrydesk"]).done();
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", PLACE]).done();
    assert_eq!(sum(&used(&verax, &["ferrydesk", "--step", "1d"]), "reads"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn usage_is_counted_while_the_service_runs() {
    let verax = Verax::ephemeral(&[]);
    prepared(&verax);
    put_and_read(&verax, 20).await;
    let counted = async || sum(&used(&verax, &[PLACE]), "reads") == 20;
    until("usage is counted within ten seconds or so", counted).await;
    let usage = used(&verax, &[PLACE]);
    let last = usage["items"].as_array().unwrap().last().unwrap();
    assert!(last["covered_seconds"].as_f64().unwrap() <= 10.0, "{last}");
}

#[tokio::test(flavor = "multi_thread")]
async fn lifetimes_are_advised_from_what_was_read() {
    let verax = Verax::ephemeral(&[]);
    prepared(&verax);
    let origin = HeldOrigin::start("07:10").await;
    origin.let_go(1_000_000);
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    verax.run(&["namespace", "change", PLACE, "--origin", "desk", "--max-age", "500ms"]).done();
    let advise = || verax.run(&["namespace", "advice", PLACE, "--json"]).json();
    let early = advise();
    assert!(early["reasons"][0].as_str().unwrap().contains("Too few reads"), "{early}");
    let cache = verax.client().cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    let judged = async || {
        for n in 0..10 {
            cache.get(&format!("board/{n}")).await.unwrap();
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        let advice = advise();
        let points = advice["points"].as_array().unwrap().len();
        (points >= 2 && advice["compared_refills"].as_u64().unwrap() >= 20).then_some(advice)
    };
    let advice = until_some("two max-ages are judged", judged).await;
    assert_eq!(advice["max_age_seconds"], 0.5);
    assert_eq!(advice["changed_refills"], 0);
    assert!(advice["sampled_keys"].as_u64().unwrap() >= 10, "{advice}");
    // Ten keys that are read all the time need ten reads of the origin in each lifetime.
    for point in advice["points"].as_array().unwrap() {
        let (seconds, load) = (&point["max_age_seconds"], &point["origin_reads_per_second"]);
        let expected = 10.0 / seconds.as_f64().unwrap();
        let load = load.as_f64().unwrap();
        assert!((0.4 * expected..1.7 * expected).contains(&load), "{point}");
        assert_eq!(point["outdated_share"], 0.0, "{point}");
    }
    let people = verax.run(&["namespace", "advice", PLACE]).done();
    assert!(people.contains("suggested") && people.contains("mean age"), "{people}");
    let locker = verax.run(&["token", "create", "--scope", "lock:ferrydesk"]).done();
    let refused = verax.run_with(locker.trim(), &["namespace", "advice", PLACE], b"");
    assert!(refused.code == 4 && refused.err.contains("observe:"), "{refused:?}");
}
