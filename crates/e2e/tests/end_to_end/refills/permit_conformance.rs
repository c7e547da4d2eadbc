//! Refill permits over both transports: the same calls come to the same.

use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use verax_api::{FailureKind, Problem};
use verax_client::{ClientError, Namespace, PermitOptions, PermitOutcome, PutOptions};
use verax_e2e::Verax;
use verax_wire::{
    Frame, Hello, PermitFlags, Put, PutCondition, Reply, Request, Tags, VERSION, next_frame,
};

/// A namespace, over one of the transports.
enum Door {
    Http(Namespace),
    Wire { stream: TcpStream, received: Vec<u8> },
}

/// What a call came to, and the permit that it gave.
type Said = (String, Option<u64>);

fn refused(problem: &Problem) -> String {
    match problem.name() {
        "bad-request" => "invalid".into(),
        name => name.to_owned(),
    }
}

fn done(result: Result<(), ClientError>) -> String {
    match result {
        Ok(()) => "done".into(),
        Err(ClientError::Refused(problem)) => refused(&problem),
        Err(error) => panic!("{error}"),
    }
}

impl Door {
    async fn wire(verax: &Verax) -> Self {
        let stream = TcpStream::connect(verax.wire()).await.unwrap();
        let mut door = Self::Wire { stream, received: Vec::new() };
        let token = verax.token();
        let hello = Hello { lowest: VERSION, highest: VERSION, token: &token, client: "test" };
        door.call(Request::Hello(hello)).await;
        door.call(Request::Open { tenant: "ferrydesk", namespace: "wire" }).await;
        door
    }

    /// One exchange over the wire, in the words of HTTP.
    async fn call(&mut self, request: Request<'_>) -> Said {
        let Self::Wire { stream, received } = self else { panic!("it is HTTP") };
        let mut bytes = Vec::new();
        request.encode(Frame { namespace: 1, id: 9 }, &mut bytes);
        stream.write_all(&bytes).await.unwrap();
        loop {
            if let Some((raw, taken)) = next_frame(received, 1 << 20).unwrap() {
                let said = match Reply::decode(raw.head, raw.body).unwrap() {
                    Reply::Value(value) => {
                        (format!("value {}", String::from_utf8_lossy(value.value)), None)
                    }
                    Reply::Permit { permit, .. } => ("permit".into(), Some(permit)),
                    Reply::Later { .. } => ("later".into(), None),
                    Reply::Failed { code, .. } => {
                        let name = FailureKind::of_code(code).map_or("?", FailureKind::name);
                        (name.to_owned(), None)
                    }
                    _ => ("done".into(), None),
                };
                received.drain(..taken);
                return said;
            }
            assert!(stream.read_buf(received).await.unwrap() > 0, "it hung up");
        }
    }

    async fn acquire_permit(&mut self, key: &str, options: &PermitOptions) -> Said {
        match self {
            Self::Http(names) => match names.acquire_permit(key, options).await {
                Ok(PermitOutcome::Value(found)) => {
                    (format!("value {}", String::from_utf8_lossy(&found.value)), None)
                }
                Ok(PermitOutcome::NoValue) => ("no-value".into(), None),
                Ok(PermitOutcome::Permit(grant)) => ("permit".into(), Some(grant.permit)),
                Ok(PermitOutcome::Later(_)) => ("later".into(), None),
                Err(ClientError::Refused(problem)) => (refused(&problem), None),
                Err(error) => panic!("{error}"),
            },
            Self::Wire { .. } => {
                let flags =
                    PermitFlags { stale: options.stale, details: false, refresh: options.refresh };
                let (lease, wait) = (milliseconds(options.lease), milliseconds(options.wait));
                let owner = options.owner.as_deref().unwrap_or("");
                self.call(Request::AcquirePermit { key, flags, owner, lease, wait }).await
            }
        }
    }

    async fn put(&mut self, key: &str, value: &str, media_type: &str, permit: u64) -> String {
        match self {
            Self::Http(names) => {
                let options =
                    PutOptions { media_type: Some(media_type.into()), ..PutOptions::default() };
                done(names.put_with_permit(key, value.to_owned(), permit, options).await)
            }
            Self::Wire { .. } => {
                let put = Put {
                    key,
                    value: value.as_bytes(),
                    media_type,
                    lifetime: None,
                    tags: Tags::NONE,
                    condition: PutCondition::Always,
                    tell_revision: false,
                };
                self.call(Request::PutWithPermit { permit, put }).await.0
            }
        }
    }

    async fn give_back(&mut self, key: &str, permit: u64, fail_all: bool) -> String {
        match self {
            Self::Http(names) => done(names.release_permit(key, permit, fail_all).await),
            Self::Wire { .. } => {
                self.call(Request::ReleasePermit { key, permit, fail_all }).await.0
            }
        }
    }

    async fn delete(&mut self, key: &str) {
        match self {
            Self::Http(names) => drop(names.delete(key).await.unwrap()),
            Self::Wire { .. } => drop(self.call(Request::Delete { key }).await),
        }
    }

    async fn put_plain(&mut self, key: &str, value: &str) {
        match self {
            Self::Http(names) => {
                names.put(key, value.to_owned(), PutOptions::default()).await.unwrap();
            }
            Self::Wire { .. } => {
                let put = Put {
                    key,
                    value: value.as_bytes(),
                    media_type: "text/plain",
                    lifetime: None,
                    tags: Tags::NONE,
                    condition: PutCondition::Always,
                    tell_revision: false,
                };
                self.call(Request::Put(put)).await;
            }
        }
    }
}

fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap()
}

async fn script(door: &mut Door) -> Vec<String> {
    let mut said = Vec::new();
    let mut say = |what: &str, text: String| said.push(format!("{what}: {text}"));
    let plain = PermitOptions::default();
    let (first, permit) = door.acquire_permit("k", &plain).await;
    say("a missing key", first);
    say("while it is refilled", door.acquire_permit("k", &plain).await.0);
    say("for another key", door.give_back("other", permit.unwrap(), false).await);
    say("the value", door.put("k", "v", "text/plain", permit.unwrap()).await);
    say("it is used up", door.put("k", "w", "text/plain", permit.unwrap()).await);
    say("now it is there", door.acquire_permit("k", &plain).await.0);
    let anew = PermitOptions { refresh: true, ..PermitOptions::default() };
    let (refresh, permit) = door.acquire_permit("k", &anew).await;
    say("a refresh", refresh);
    say("another one has the copy", door.acquire_permit("k", &anew).await.0);
    door.delete("k").await;
    say("voided by a delete", door.put("k", "old", "text/plain", permit.unwrap()).await);
    let (_, permit) = door.acquire_permit("k", &plain).await;
    door.put_plain("k", "newer").await;
    say("voided by a put", door.give_back("k", permit.unwrap(), false).await);
    say("the newer value", door.acquire_permit("k", &plain).await.0);
    let (_, permit) = door.acquire_permit("gone", &plain).await;
    let no_value = "application/vnd.verax.no-value";
    say("a word with a value", door.put("gone", "x", no_value, permit.unwrap()).await);
    say("there is no value", door.put("gone", "", no_value, permit.unwrap()).await);
    say("so it is known", door.acquire_permit("gone", &plain).await.0);
    let (_, permit) = door.acquire_permit("failed", &plain).await;
    say("given back", door.give_back("failed", permit.unwrap(), true).await);
    say("and for the next", door.acquire_permit("failed", &plain).await.0);
    for (what, lease) in [("the shortest", 10), ("the longest", 300_000)] {
        let options = PermitOptions { lease: Duration::from_millis(lease), ..plain.clone() };
        say(what, door.acquire_permit(what, &options).await.0);
    }
    for (what, lease) in [("too short", 9), ("too long", 300_001)] {
        let options = PermitOptions { lease: Duration::from_millis(lease), ..plain.clone() };
        say(what, door.acquire_permit(what, &options).await.0);
    }
    let owner = |bytes| PermitOptions { owner: Some("x".repeat(bytes)), ..plain.clone() };
    say("the longest note", door.acquire_permit("noted", &owner(200)).await.0);
    say("a longer note", door.acquire_permit("noted", &owner(201)).await.0);
    said
}

#[tokio::test]
async fn permits_are_the_same_over_both_transports() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    for namespace in ["ferrydesk/http", "ferrydesk/wire"] {
        verax.run(&["namespace", "create", namespace, "--negative-max-age", "1m"]).done();
    }
    let mut http = Door::Http(verax.client().namespace("ferrydesk", "http").unwrap());
    let over_http = script(&mut http).await;
    let over_wire = script(&mut Door::wire(&verax).await).await;
    assert_eq!(over_http, over_wire);
    let permits = over_http.iter().filter(|line| line.ends_with(": permit")).count();
    assert_eq!((over_http.len(), permits), (22, 6), "{over_http:#?}");
}
