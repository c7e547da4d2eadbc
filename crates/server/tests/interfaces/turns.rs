//! Tenants that share the processors: one whose turns are taken waits, over either transport, and
//! another one does not.

use std::sync::Arc;

use crate::wire_fixture::{Fixture, get_of};
use rstest::rstest;
use serde_json::json;
use verax_client::{Namespace, PutOptions};
use verax_core::Name;
use verax_engine::EngineOptions;
use verax_server::WireLimits;
use verax_service::ServiceOptions;

/// A request of the busy tenant.
#[derive(Debug, Clone, Copy)]
enum Asked {
    PlainGet,
    Put,
    List,
    OverTheWire,
}

async fn ask(asked: Asked, fixture: &Fixture, boards: &Namespace) {
    match asked {
        Asked::PlainGet => drop(boards.get("k").await.unwrap().unwrap()),
        Asked::Put => drop(boards.put("other", "v", PutOptions::default()).await.unwrap()),
        Asked::List => drop(boards.list("", None, 10).await.unwrap()),
        Asked::OverTheWire => {
            let mut wire = fixture.opened().await;
            wire.send(1, 7, get_of("k")).await;
            assert!(wire.next().await.unwrap().1.starts_with("Value"));
        }
    }
}

#[rstest]
#[case(Asked::PlainGet)]
#[case(Asked::Put)]
#[case(Asked::List)]
#[case(Asked::OverTheWire)]
#[tokio::test(flavor = "multi_thread")]
async fn a_tenant_waits_for_its_own_turns_only(#[case] asked: Asked) {
    let engine = EngineOptions { processors: 2, ..EngineOptions::default() };
    let options = ServiceOptions { engine, ..ServiceOptions::default() };
    let fixture = Arc::new(Fixture::start(WireLimits::default(), options).await);
    fixture.namespace(json!({ "name": "boards" })).await;
    let client = fixture.client();
    client.create_tenant("tideline").await.unwrap();
    let levels = serde_json::from_value(json!({ "name": "levels" })).unwrap();
    client.create_namespace("tideline", &levels).await.unwrap();
    let boards = client.namespace("ferrydesk", "boards").unwrap();
    let levels = client.namespace("tideline", "levels").unwrap();
    for namespace in [&boards, &levels] {
        namespace.put("k", "v", PutOptions::default()).await.unwrap();
    }
    let control = fixture.service.control();
    let admin = control.token_caller(&fixture.token).unwrap();
    let names = ["ferrydesk", "boards"].map(|name| Name::new(name).unwrap());
    let reader = control.open_reader(&admin, &names[0], &names[1]).unwrap();
    // Of two processors a busy tenant has one.
    let turn = loop {
        levels.get("k").await.unwrap().unwrap();
        if let Some(turn) = reader.turns().take().await {
            break turn;
        }
    };
    let waits = {
        let (fixture, boards) = (Arc::clone(&fixture), boards.clone());
        tokio::spawn(async move { ask(asked, &fixture, &boards).await })
    };
    for _ in 0..100 {
        levels.get("k").await.unwrap().unwrap();
        assert!(!waits.is_finished(), "it had a turn although its tenant had none left");
    }
    drop(turn);
    waits.await.unwrap();
    Arc::into_inner(fixture).unwrap().end().await;
}
