//! A session is driven by bytes alone: no socket, no peer, no waiting for either.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use rstest::rstest;
use verax_api::PolicyChange;
use verax_control::access::Caller;
use verax_core::Name;
use verax_core::access::Scope;
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_service::ServiceOptions;
use verax_wire::{GetFlags, Hello, Put, PutCondition, Request, Tags, next_frame};

use super::*;
use crate::connections::{ConnectionLimits, Connections};

/// A service with `ferrydesk/boards`, and what it runs on.
struct Fixture {
    service: Arc<Service>,
    token: String,
    mariadb: PrivateServer,
    _directory: tempfile::TempDir,
}

impl Fixture {
    async fn start() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let mariadb = PrivateServer::start(directory.path()).await.unwrap();
        let records = Records::open(mariadb.url("verax")).await.unwrap();
        let service = Service::start(records, ServiceOptions::default()).await.unwrap();
        let token = service.control().administrator_token(None).await.unwrap();
        let (caller, tenant) =
            (Caller::service("test", vec![Scope::Admin]), Name::new("ferrydesk").unwrap());
        service.control().create_tenant(&caller, "ferrydesk").await.unwrap();
        let policy = PolicyChange::default();
        service.control().create_namespace(&caller, &tenant, "boards", &policy).await.unwrap();
        Self { service, token, mariadb, _directory: directory }
    }

    fn session(&self, in_flight: usize) -> Session {
        let slots = Connections::new(ConnectionLimits::default());
        let slot = slots.admit([127, 0, 0, 1].into()).ok().unwrap();
        let limits = WireLimits { in_flight, ..WireLimits::default() };
        Session::new(Arc::clone(&self.service), limits, slot)
    }

    /// The frames of a hello and an open, and of `requests` in the opened namespace, with ids in
    /// order.
    fn frames(&self, requests: &[Request<'_>]) -> Vec<u8> {
        let hello = Hello { lowest: 1, highest: 1, token: &self.token, client: "test" };
        let open = Request::Open { tenant: "ferrydesk", namespace: "boards" };
        let mut bytes = Vec::new();
        Request::Hello(hello).encode(Frame { namespace: 0, id: 1 }, &mut bytes);
        open.encode(Frame { namespace: 0, id: 2 }, &mut bytes);
        for (id, request) in (3..).zip(requests) {
            request.encode(Frame { namespace: 1, id }, &mut bytes);
        }
        bytes
    }

    async fn end(self) {
        self.service.stop();
        self.mariadb.stop().await.unwrap();
    }
}

/// Gives a session some bytes, and lets it handle what is complete.
fn feed(session: &mut Session, bytes: &[u8]) -> Result<(), Ended> {
    session.expect_more();
    session.received.extend_from_slice(bytes);
    while session.answer_received()? && session.outbox.len() < WRITE_AT {}
    Ok(())
}

/// The replies that are queued, by id, as text.
async fn replies(session: &mut Session) -> Vec<(u32, String)> {
    let mut bytes = Vec::new();
    session.outbox.write(&mut bytes).await.unwrap();
    let (mut at, mut replies) = (0, Vec::new());
    while let Some((frame, taken)) = next_frame(&bytes[at..], u32::MAX).unwrap() {
        let reply = Reply::decode(frame.head, frame.body).unwrap();
        // Times and revisions differ from run to run.
        let text = format!("{reply:?}");
        replies.push((frame.head.id, text.split([' ', '(']).next().unwrap().to_owned()));
        at += taken;
    }
    assert_eq!(at, bytes.len(), "the queue ends with a complete frame");
    replies
}

fn put<'a>(key: &'a str, value: &'a [u8]) -> Request<'a> {
    Request::Put(Put {
        key,
        value,
        media_type: "text/plain",
        lifetime: None,
        tags: Tags::of(&[]),
        condition: PutCondition::Always,
        tell_revision: false,
    })
}

fn get(key: &str) -> Request<'_> {
    Request::Get { key, flags: GetFlags::default() }
}

fn lock(name: &str) -> Request<'_> {
    Request::AcquireLock {
        name,
        owner: "",
        lease: 60_000,
        wait: 60_000,
        ends_with_connection: true,
    }
}

#[rstest]
#[case::by_byte(1)]
#[case::by_odd_pieces(7)]
#[case::whole(usize::MAX)]
#[tokio::test(flavor = "multi_thread")]
async fn replies_do_not_depend_on_how_bytes_arrive(#[case] piece: usize) {
    let fixture = Fixture::start().await;
    let mut session = fixture.session(16);
    let frames = fixture.frames(&[
        put("board", b"07:10"),
        get("board"),
        get("none"),
        Request::Delete { key: "board" },
        get("board"),
        Request::Ping,
    ]);
    let mut said = Vec::new();
    for piece in frames.chunks(piece.min(frames.len())) {
        feed(&mut session, piece).unwrap();
        said.extend(replies(&mut session).await);
    }
    let expected = ["Welcome", "Opened", "Done", "Value", "Miss", "Done", "Miss", "Pong"];
    let expected: Vec<_> = (1..).zip(expected.map(str::to_owned)).collect();
    assert_eq!(said, expected);
    assert!(session.received.is_empty() && !session.ending);
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_beyond_the_waiting_limit_stay_unread() {
    let fixture = Fixture::start().await;
    let mut session = fixture.session(2);
    // The first lock is granted; two more callers wait, which is the limit.
    let frames = fixture.frames(&[lock("berth"), lock("berth"), lock("berth"), get("board")]);
    feed(&mut session, &frames).unwrap();
    let said = replies(&mut session).await;
    assert_eq!(said.last().unwrap(), &(3, "Granted".to_owned()));
    assert_eq!((session.waiting.len(), session.received.is_empty()), (2, false));

    // With one fewer waiting, the get has its turn.
    session.waiting.abort_all();
    while session.waiting.join_next().await.is_some() {}
    feed(&mut session, &[]).unwrap();
    assert_eq!(replies(&mut session).await, [(6, "Miss".to_owned())]);
    assert!(session.received.is_empty());
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn replies_that_are_not_written_hold_requests_back() {
    let fixture = Fixture::start().await;
    let mut session = fixture.session(16);
    let value = vec![b'v'; 20 << 10];
    let gets = vec![get("board"); 100];
    let requests: Vec<_> = [put("board", &value)].into_iter().chain(gets).collect();
    feed(&mut session, &fixture.frames(&requests)).unwrap();
    // The queue passes its limit by one reply at most.
    assert!((WRITE_AT..WRITE_AT + (21 << 10)).contains(&session.outbox.len()));
    assert!(!session.received.is_empty());
    let mut said = 0;
    while !session.outbox.is_empty() {
        said += replies(&mut session).await.len();
        feed(&mut session, &[]).unwrap();
    }
    assert_eq!(said, 2 + 101, "nothing is lost");
    fixture.end().await;
}

#[rstest]
#[case::before_the_hello(&[put("board", b"v")])]
#[case::a_second_hello(&[Request::Hello(Hello { lowest: 1, highest: 1, token: "", client: "" })])]
#[tokio::test(flavor = "multi_thread")]
async fn a_breach_ends_the_session(#[case] requests: &[Request<'static>]) {
    let fixture = Fixture::start().await;
    let mut session = fixture.session(16);
    let first_is_hello = matches!(requests[0], Request::Hello(_));
    let mut frames = if first_is_hello { fixture.frames(&[]) } else { Vec::new() };
    requests[0].encode(Frame { namespace: 0, id: 9 }, &mut frames);
    assert!(matches!(feed(&mut session, &frames), Err(Ended::Protocol(WireError::Kind(_)))));
    fixture.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_revoked_token_ends_the_session_before_the_next_request() {
    let mut fixture = Fixture::start().await;
    let caller = Caller::service("test", vec![Scope::Admin]);
    let control = Arc::clone(fixture.service.control());
    let scopes = ["read:ferrydesk".to_owned(), "write:ferrydesk".to_owned()];
    let created = control
        .create_token(&caller, &verax_api::CreateToken::new(&scopes, "board service"))
        .await
        .unwrap();
    fixture.token = created.secret;
    let mut session = fixture.session(16);
    feed(&mut session, &fixture.frames(&[put("board", b"v"), lock("berth"), lock("berth")]))
        .unwrap();
    assert_eq!(replies(&mut session).await.len(), 4, "one lock is granted, one waits");

    control.revoke_token(&caller, created.token.id).await.unwrap();
    let mut frames = Vec::new();
    get("board").encode(Frame { namespace: 1, id: 9 }, &mut frames);
    assert!(matches!(feed(&mut session, &frames), Err(Ended::Refused(_))));
    assert_eq!(replies(&mut session).await, [(0, "Failed".to_owned())], "the value is not told");
    while session.waiting.join_next().await.is_some() {}
    assert!(session.ending);
    fixture.end().await;
}
