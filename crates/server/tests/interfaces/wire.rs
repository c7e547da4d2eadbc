//! What the wire promises beyond single requests: order within a connection, flags in batches, and
//! what becomes of a connection when a namespace goes.

use crate::wire_fixture::{Fixture, Wire, get_of, until};
use serde_json::json;
use tokio::io::AsyncWriteExt;
use verax_api::FailureKind;
use verax_core::Name;
use verax_server::WireLimits;
use verax_service::ServiceOptions;
use verax_wire::{BatchOperations, Frame, GetFlags, PermitFlags, Put, PutCondition, Request, Tags};

async fn started() -> (Fixture, Wire) {
    let fixture = Fixture::start(WireLimits::default(), ServiceOptions::default()).await;
    fixture.namespace(json!({ "name": "boards" })).await;
    let wire = fixture.opened().await;
    (fixture, wire)
}

fn lock(name: &str, wait: u64) -> Request<'_> {
    Request::AcquireLock { name, owner: "", lease: 60_000, wait, ends_with_connection: true }
}

fn ask(key: &str, wait: u64, refresh: bool) -> Request<'_> {
    let flags = PermitFlags { refresh, ..PermitFlags::default() };
    Request::AcquirePermit { key, flags, owner: "", lease: 60_000, wait }
}

fn put<'a>(key: &'a str, value: &'a [u8], media_type: &'a str) -> Put<'a> {
    let (tags, condition) = (Tags::of(&["harbor"]), PutCondition::Always);
    Put { key, value, media_type, lifetime: None, tags, condition, tell_revision: false }
}

/// Sends requests in one piece, numbered from 1.
async fn send_together(wire: &mut Wire, requests: &[Request<'_>]) {
    let mut bytes = Vec::new();
    for (id, request) in (1..).zip(requests) {
        request.encode(Frame { namespace: 1, id }, &mut bytes);
    }
    wire.stream.write_all(&bytes).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_of_a_connection_are_served_in_order() {
    let (fixture, mut wire) = started().await;
    for round in 0..100 {
        let (name, key) = (format!("berth-{round}"), format!("board-{round}"));
        send_together(&mut wire, &[lock(&name, 30_000), lock(&name, 30_000)]).await;
        let (id, text) = wire.next().await.unwrap();
        assert_eq!((id, &text[..7]), (1, "Granted"), "round {round}");
        // The second one has it when the first gives it back.
        let token = text.split("token: ").nth(1).unwrap().split(',').next().unwrap();
        let release = Request::ReleaseLock { name: &name, fencing_token: token.parse().unwrap() };
        wire.send(1, 3, release).await;
        let mut replies = [wire.next().await.unwrap(), wire.next().await.unwrap()];
        replies.sort();
        assert!(replies[0].0 == 2 && replies[0].1.starts_with("Granted"), "{replies:?}");

        send_together(&mut wire, &[ask(&key, 0, false), ask(&key, 0, false)]).await;
        let replies = [wire.next().await.unwrap(), wire.next().await.unwrap()];
        assert!(replies[0].0 == 1 && replies[0].1.starts_with("Permit"), "{replies:?}");
        assert!(replies[1].0 == 2 && replies[1].1.starts_with("Later"), "{replies:?}");
    }
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_batch_respects_the_flags_of_its_gets() {
    let (fixture, mut wire) = started().await;
    wire.send(1, 1, Request::Put(put("k", b"v", "text/x-board"))).await;
    assert!(wire.next().await.unwrap().1.starts_with("Done"));
    let flags = GetFlags { details: true, ..GetFlags::default() };
    let operations = [Request::Get { key: "k", flags }, get_of("k")];
    wire.send(1, 2, Request::Batch(BatchOperations::of(&operations))).await;
    let (_, text) = wire.next().await.unwrap();
    assert_eq!(text.matches("details: Some").count(), 1, "{text}");
    assert!(text.contains("text/x-board") && text.contains("harbor"), "{text}");
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn out_of_range_fields_are_refused_over_both_transports() {
    let (fixture, mut wire) = started().await;
    // Of another length, a tag is a breach of the protocol.
    let longest = "x".repeat(128);
    for (tag, known) in [("caf\u{e9}", false), ("a\tb", false), (&*longest, true)] {
        wire.send(1, 1, Request::InvalidateTag { tag }).await;
        match known {
            true => assert!(wire.next().await.unwrap().1.starts_with("Done"), "{tag}"),
            false => wire.refused_as(FailureKind::Invalid).await,
        }
    }
    // A longer one cannot be written on the wire.
    let longest = format!("text/{}", "x".repeat(250));
    for (media_type, good) in
        [("text", false), ("text/a\nb", false), ("", false), (&*longest, true)]
    {
        wire.send(1, 1, Request::Put(put("k", b"v", media_type))).await;
        match good {
            true => assert!(wire.next().await.unwrap().1.starts_with("Done"), "{media_type}"),
            false => wire.refused_as(FailureKind::Invalid).await,
        }
    }
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_watch_changes_nothing_and_a_watch_survives_a_deleted_namespace() {
    let (fixture, mut wire) = started().await;
    for id in 1..=100 {
        wire.send(1, id, Request::Watch).await;
        assert!(wire.next().await.unwrap().1.starts_with("Done"));
    }
    let mut writer = fixture.opened().await;
    let mut write = async || {
        writer.send(1, 9, Request::Put(put("k", b"v", "text/plain"))).await;
        assert!(writer.next().await.unwrap().1.starts_with("Done"));
    };
    write().await;
    let (id, text) = wire.next().await.unwrap();
    assert!(id == 0 && text.starts_with("Invalidated(Key"), "{text}");
    wire.send(0, 7, Request::Ping).await;
    assert_eq!(wire.next().await.unwrap(), (7, "Pong".into()), "notices once");

    // A waiter of a namespace that is deleted is told so, and its connection goes on.
    wire.send(1, 1, lock("berth", 0)).await;
    assert!(wire.next().await.unwrap().1.starts_with("Granted"));
    wire.send(1, 2, lock("berth", 60_000)).await;
    wire.send(1, 3, ask("cold", 0, false)).await;
    assert!(wire.next().await.unwrap().1.starts_with("Permit"));
    wire.send(1, 4, ask("cold", 60_000, false)).await;
    until("both wait", || {
        let engine = fixture.service.engine();
        (engine.lock_counts().queued, engine.refills().waiting) == (1, 1)
    })
    .await;
    let (ferrydesk, boards) = (Name::new("ferrydesk").unwrap(), Name::new("boards").unwrap());
    let admin = fixture.service.control().token_caller(&fixture.token).unwrap();
    let deleted = fixture.service.control().delete_namespace(&admin, &ferrydesk, &boards);
    deleted.await.unwrap();
    let mut notices = Vec::new();
    while notices.len() < 3 {
        notices.push(wire.next().await.unwrap());
    }
    notices.sort();
    assert!(notices[0].0 == 0 && notices[0].1.starts_with("Invalidated(All"), "{notices:?}");
    let gone = format!("code: {}", FailureKind::NotFound.code());
    assert!(notices[1..].iter().all(|(_, text)| text.contains(&gone)), "{notices:?}");
    assert_eq!((notices[1].0, notices[2].0), (2, 4));
    wire.send(1, 5, get_of("k")).await;
    wire.refused_as(FailureKind::NotFound).await;

    // One of the same name is another, of which nothing is true that was; it is watched as well.
    fixture.namespace(json!({ "name": "boards" })).await;
    wire.send(1, 6, get_of("k")).await;
    let notices = [wire.next().await.unwrap(), wire.next().await.unwrap()];
    assert!(
        notices[0].1.starts_with("Invalidated(All") && notices[1].1.starts_with("Miss"),
        "{notices:?}"
    );
    write().await;
    assert!(wire.next().await.unwrap().1.starts_with("Invalidated(Key"));
    fixture.end().await;
}
