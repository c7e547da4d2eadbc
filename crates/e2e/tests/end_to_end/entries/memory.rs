//! What more memory would buy, and how to divide it.

use serde_json::Value;
use verax_client::{Cache, CacheOptions};
use verax_e2e::{Verax, until_some};

/// Puts entries of 1 KiB.
async fn filled(verax: &Verax, tenant: &str, name: &str, entries: usize) -> Cache {
    let place = format!("{tenant}/{name}");
    verax.run(&["namespace", "create", &place, "--max-age", "1h"]).done();
    let cache = verax.client().cache(tenant, name, CacheOptions::default()).unwrap();
    for n in 0..entries {
        cache.put(&format!("board/{n}"), vec![b'x'; 1_024], Default::default()).await.unwrap();
    }
    cache
}

fn curve(verax: &Verax, place: &str) -> Value {
    verax.run(&["memory", "curve", place, "--json"]).json()
}

/// Another tenant's namespaces stay its own.
fn others_stay_hidden(verax: &Verax) {
    let token = verax.run(&["token", "create", "--scope", "observe:tideline"]).done();
    let own = verax.run_with(token.trim(), &["memory", "divide", "--json"], b"").json();
    let tenants: Vec<&Value> =
        own["namespaces"].as_array().unwrap().iter().map(|row| &row["tenant"]).collect();
    assert_eq!(tenants, ["tideline", "tideline"]);
    let bytes: u64 = own["namespaces"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["bytes_now"].as_u64().unwrap())
        .sum();
    assert_eq!(own["bytes"], bytes);
    let refused = verax.run_with(token.trim(), &["memory", "curve", "ferrydesk/boards"], b"");
    assert!(refused.code == 4 && refused.err.contains("observe:"), "{refused:?}");
    let locker = verax.run(&["token", "create", "--scope", "lock:ferrydesk"]).done();
    let none = verax.run_with(locker.trim(), &["memory", "divide", "--json"], b"").json();
    assert_eq!((&none["namespaces"], &none["bytes"]), (&Value::Array(vec![]), &0.into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn memory_is_judged_by_what_is_read() {
    let verax = Verax::ephemeral(&[]);
    for tenant in ["ferrydesk", "tideline"] {
        verax.run(&["tenant", "create", tenant]).done();
    }
    // All of the boards are read again and again, of the tables a few; of the levels none.
    let boards = filled(&verax, "ferrydesk", "boards", 100).await;
    let tables = filled(&verax, "tideline", "tables", 200).await;
    filled(&verax, "tideline", "levels", 50).await;
    let early = curve(&verax, "tideline/levels");
    assert_eq!(early["points"], Value::Array(vec![]));
    assert!(early["remarks"][0].as_str().unwrap().contains("Too few reads"), "{early}");

    let mut next = 0;
    let mut read = async |times: usize| {
        for _ in 0..times {
            boards.get(&format!("board/{}", next % 100)).await.unwrap();
            tables.get(&format!("board/{}", next % 20)).await.unwrap();
            next += 1;
        }
    };
    // A read of a key that is not there is one, too.
    let known = until_some("both are known", async || {
        read(200).await;
        let division = verax.run(&["memory", "divide", "--json"]).json();
        let rows = division["namespaces"].as_array().unwrap();
        let known = rows.iter().filter(|row| row["is_known"] == true).count();
        (known == 2).then_some(division)
    })
    .await;
    let of = |path: &str| {
        let rows = known["namespaces"].as_array().unwrap().iter();
        let mut rows = rows.filter(|row| format!("{}/{}", row["tenant"], row["namespace"]) == path);
        rows.next().unwrap().clone()
    };
    let (boards, tables) = (of(r#""ferrydesk"/"boards""#), of(r#""tideline"/"tables""#));
    for row in [&boards, &tables] {
        assert!(row["hit_ratio_now"].as_f64().unwrap() > 0.9, "{row}");
        // There is more than enough for everybody.
        assert_eq!(row["bytes_then"].as_u64().unwrap(), row["bytes_now"].as_u64().unwrap());
    }
    assert_eq!(of(r#""tideline"/"levels""#)["is_known"], false);
    assert!(known["remarks"][0].as_str().unwrap().contains("No division"), "{known}");

    // Twenty keys need a tenth of what the tables have; all of the boards are needed.
    let needs = |place: &str, ratio: f64| {
        let curve = curve(&verax, place);
        let points = curve["points"].as_array().unwrap().clone();
        let enough = points.iter().find(|point| point["hit_ratio"].as_f64().unwrap() >= ratio);
        enough.unwrap()["entries"].as_u64().unwrap()
    };
    let (of_boards, of_tables) = (needs("ferrydesk/boards", 0.8), needs("tideline/tables", 0.8));
    assert!((60..=110).contains(&of_boards), "{of_boards}");
    assert!((10..=25).contains(&of_tables), "{of_tables}");
    let shown = curve(&verax, "tideline/tables");
    assert_eq!(shown["now"]["entries"], 200);
    assert!(shown["remarks"][0].as_str().unwrap().contains("More memory buys nothing"), "{shown}");
    assert!(shown["remarks"][1].as_str().unwrap().contains("Half of the memory would do"));
    assert!(shown["measured_hit_ratio"].as_f64().unwrap() > 0.95, "{shown}");
    let people = verax.run(&["memory", "curve", "tideline/tables"]).done();
    assert!(people.contains("now") && people.contains("keys known by their rate"), "{people}");
    let people = verax.run(&["memory", "divide"]).done();
    assert!(people.contains("ferrydesk/boards") && people.contains("unknown"), "{people}");
    others_stay_hidden(&verax);
}

#[tokio::test(flavor = "multi_thread")]
async fn where_memory_is_short_more_of_it_raises_the_hit_ratio() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "tideline"]).done();
    let create = ["namespace", "create", "tideline/levels", "--max-age", "1h", "--cap", "1MiB"];
    verax.run(&create).done();
    let levels = verax.client().cache("tideline", "levels", CacheOptions::default()).unwrap();
    let mut random = 1_u64;
    let mut read = async |times: usize| {
        for _ in 0..times {
            // A linear congruential generator (Knuth, MMIX).
            random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let key = format!("level/{}", (random >> 33) % 400);
            if levels.get(&key).await.unwrap().is_none() {
                levels.put(&key, vec![b'x'; 8_192], Default::default()).await.unwrap();
            }
        }
    };
    let shown = until_some("the curve shows what is missing", async || {
        read(500).await;
        let shown = curve(&verax, "tideline/levels");
        let has = |words: &str| {
            let remarks = shown["remarks"].as_array().unwrap();
            remarks.iter().any(|remark| remark.as_str().unwrap().contains(words))
        };
        // While it says that it is not sure yet, it need not be right.
        let is_sure = !has("too short a time");
        (is_sure && has("Twice the memory would raise")).then_some(shown)
    })
    .await;
    let (now, measured) = (&shown["now"], shown["measured_hit_ratio"].as_f64().unwrap());
    // Every key is read as often as every other, so the hit ratio is the share that has room.
    let share = now["entries"].as_f64().unwrap() / 400.0;
    assert!((0.2..0.7).contains(&share), "{shown}");
    let expected = now["hit_ratio"].as_f64().unwrap();
    assert!((expected - share).abs() < 0.1 + now["error"].as_f64().unwrap(), "{shown}");
    assert!((expected - measured).abs() < 0.2, "{shown}");
}
