//! The golden vectors: frames as bytes, written down once, which every implementation must make and
//! read the same. `VERAX_WRITE_VECTORS=1` writes the file after a deliberate change of the
//! protocol.

use verax_api::FailureKind;
use verax_wire::{
    BatchOperations, BatchReplies, Details, Frame, GetFlags, Hello, Invalidated, Lifetime,
    ListedEntries, ListedEntry, Nodes, OPERATIONS, PermitFlags, Put, PutCondition, REPLIES, Reply,
    Request, Source, Tags, Value, Welcome, next_frame,
};

const LIMIT: u32 = 1 << 20;

fn path() -> std::path::PathBuf {
    concat!(env!("CARGO_MANIFEST_DIR"), "/vectors/frames.txt").into()
}

fn lifetime() -> Lifetime {
    Lifetime { max_age: 30_000, stale_while_revalidate: 10_000, stale_if_error: 600_000 }
}

fn put() -> Put<'static> {
    Put {
        key: "board/aldermouth",
        value: b"[]",
        media_type: "application/json",
        lifetime: None,
        tags: Tags::NONE,
        condition: PutCondition::Always,
        tell_revision: false,
    }
}

fn lock(ends_with_connection: bool) -> Request<'static> {
    let (name, owner) = ("berth-7", "desk 2");
    Request::AcquireLock { name, owner, lease: 30_000, wait: 10_000, ends_with_connection }
}

const NO_FLAGS: GetFlags = GetFlags {
    only_if_cached: false,
    refresh: false,
    details: false,
    may_refill: false,
    revision: false,
    stale_if_error: false,
};

fn requests() -> Vec<(u16, u32, Request<'static>)> {
    static OPERATIONS: [Request<'static>; 2] = [
        Request::Get { key: "a", flags: GetFlags { only_if_cached: true, ..NO_FLAGS } },
        Request::Delete { key: "b" },
    ];
    let get = |only_if_cached, refresh, details| Request::Get {
        key: "board/aldermouth",
        flags: GetFlags { only_if_cached, refresh, details, ..NO_FLAGS },
    };
    vec![
        (
            0,
            1,
            Request::Hello(Hello {
                lowest: 1,
                highest: 1,
                token: "verax-token-0",
                client: "example",
            }),
        ),
        (0, 2, Request::Open { tenant: "ferrydesk", namespace: "boards" }),
        (0, 3, Request::Ping),
        (0, 0, Request::Goodbye),
        (1, 4, Request::Watch),
        (1, 5, get(false, false, false)),
        (1, 6, get(true, false, true)),
        (1, 7, get(false, true, false)),
        (1, 8, Request::Put(put())),
        (
            1,
            9,
            Request::Put(Put {
                lifetime: Some(lifetime()),
                tags: Tags::of(&["boards", "harbor-7"]),
                condition: PutCondition::IfAbsent,
                ..put()
            }),
        ),
        (
            1,
            10,
            Request::Put(Put { condition: PutCondition::IfMatches(0x0102), value: b"", ..put() }),
        ),
        (1, 11, Request::Delete { key: "böard" }),
        (1, 12, Request::SetLifetime { key: "k", lifetime: Some(lifetime()) }),
        (1, 13, Request::SetLifetime { key: "k", lifetime: None }),
        (1, 14, Request::Batch(BatchOperations::of(&OPERATIONS))),
        (1, 15, Request::List { prefix: "board/", cursor: "3-20", limit: 100 }),
        (1, 16, Request::InvalidateTag { tag: "boards" }),
        (
            0,
            0,
            Request::Trace {
                traceparent: "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01",
                tracestate: "desk=7",
            },
        ),
        (
            1,
            34,
            Request::ReportDamage {
                entity_tag: 0x0102,
                reason: "expected a number at column 7",
                key: "board/saltmere",
            },
        ),
        (1, 32, Request::Clear { prefix: Some("board/") }),
        (1, 33, Request::Clear { prefix: None }),
        (1, 17, Request::Add { key: "boardings", amount: -3, lifetime: Some(lifetime()) }),
        (1, 18, Request::Add { key: "boardings", amount: 1, lifetime: None }),
        (
            1,
            19,
            Request::AcquireRate { key: "quay-7", amount: 2, count: 10, period: 1_000, burst: 20 },
        ),
        (1, 20, lock(true)),
        (1, 21, lock(false)),
        (
            1,
            22,
            Request::RenewLock { name: "berth-7", fencing_token: 0x1_0000_0001, lease: 30_000 },
        ),
        (1, 23, Request::ReleaseLock { name: "berth-7", fencing_token: 0x1_0000_0001 }),
        (1, 24, Request::PeekLock { name: "berth-7" }),
        (
            1,
            25,
            Request::AcquirePermit {
                key: "board/aldermouth",
                flags: PermitFlags { stale: true, ..PermitFlags::default() },
                owner: "desk 2",
                lease: 10_000,
                wait: 2_000,
            },
        ),
        (1, 36, Request::AwaitRefill { lease: 10_000, wait: 20_000, owner: "desk 2" }),
        (1, 26, Request::PutWithPermit { permit: 77, put: put() }),
        (1, 27, Request::ReleasePermit { key: "board/aldermouth", permit: 77, fail_all: true }),
        (
            1,
            28,
            Request::Get {
                key: "board/aldermouth",
                flags: GetFlags { only_if_cached: true, may_refill: true, ..GetFlags::default() },
            },
        ),
        (
            1,
            29,
            Request::AcquirePermit {
                key: "board/aldermouth",
                flags: PermitFlags { stale: true, details: false, refresh: true },
                owner: "",
                lease: 10_000,
                wait: 0,
            },
        ),
        (
            1,
            30,
            Request::Get {
                key: "board/aldermouth",
                flags: GetFlags { revision: true, ..GetFlags::default() },
            },
        ),
        (
            1,
            31,
            Request::Put(Put {
                condition: PutCondition::IfRevision(0x0102_0304_0506),
                tell_revision: true,
                ..put()
            }),
        ),
        (
            1,
            42,
            Request::AcquirePermit {
                key: "board/aldermouth",
                flags: PermitFlags { details: true, ..PermitFlags::default() },
                owner: "desk 2",
                lease: 10_000,
                wait: 0,
            },
        ),
        (
            1,
            60,
            Request::Get {
                key: "board/aldermouth",
                flags: GetFlags { only_if_cached: true, stale_if_error: true, ..NO_FLAGS },
            },
        ),
        (
            1,
            43,
            Request::PutWithPermit {
                permit: 77,
                put: Put {
                    lifetime: Some(lifetime()),
                    tags: Tags::of(&["boards"]),
                    tell_revision: true,
                    ..put()
                },
            },
        ),
    ]
}

fn replies() -> Vec<(u16, u32, Reply<'static>)> {
    static ENTRIES: [ListedEntry<'static>; 1] = [ListedEntry {
        key: "board/aldermouth",
        value_bytes: 2,
        age: 1_500,
        time_left: -20,
        media_type: "application/json",
    }];
    let value = Value {
        source: Source::Hit,
        due: false,
        time_left: 28_500,
        details: None,
        revision: None,
        value: b"[]",
    };
    static RESULTS: [Reply<'static>; 4] = [
        Reply::Value(Value {
            source: Source::Joined,
            due: false,
            time_left: 1,
            details: None,
            revision: None,
            value: b"v",
        }),
        Reply::Miss,
        Reply::done(true),
        Reply::Failed {
            code: FailureKind::Overloaded.code(),
            unchanged: false,
            request_id: 0,
            retry_after: None,
            detail: "later",
        },
    ];
    let mut replies = vec![
        (
            0,
            1,
            Reply::Welcome(Welcome {
                version: 1,
                max_body_bytes: 67_174_400,
                max_in_flight: 1_024,
                idle_timeout: 120_000,
                topology: 1,
                nodes: Nodes::of(&[""]),
            }),
        ),
        (1, 2, Reply::Opened { may_read: true, may_write: true, max_value_bytes: 1 << 20 }),
        (0, 3, Reply::Pong),
        (0, 0, Reply::Goodbye),
        (1, 0, Reply::Invalidated(Invalidated::Key("board/aldermouth"))),
        (1, 0, Reply::Invalidated(Invalidated::Tag("boards"))),
        (1, 0, Reply::Invalidated(Invalidated::All)),
        (1, 5, Reply::Value(value)),
        (1, 28, Reply::Value(Value { due: true, ..value })),
        (
            1,
            6,
            Reply::Value(Value {
                source: Source::Stale,
                time_left: -40,
                details: Some(Details {
                    age: 1_500,
                    entity_tag: 0x0102,
                    media_type: "application/json",
                    tags: Tags::of(&["boards"]),
                }),
                ..value
            }),
        ),
        (1, 30, Reply::Value(Value { revision: Some(0x0102_0304_0506), ..value })),
        (1, 31, Reply::Done { was_there: true, revision: Some(0x0102_0304_0507) }),
        (1, 7, Reply::Miss),
        (1, 8, Reply::done(false)),
        (1, 14, Reply::Batch(BatchReplies::of(&RESULTS))),
        (1, 15, Reply::Page { cursor: "4-0", entries: ListedEntries::of(&ENTRIES) }),
        (1, 17, Reply::Counted { value: -3, created: true }),
        (1, 19, Reply::RateAcquired { left: 18 }),
        (1, 19, Reply::Later { retry_after: 250 }),
        (1, 20, Reply::Granted { fencing_token: 0x1_0000_0001, ends_in: 30_000 }),
        (
            1,
            24,
            Reply::Held {
                fencing_token: 0x1_0000_0001,
                ends_in: 29_000,
                held_for: 1_000,
                queued: 3,
                owner: "desk 1",
            },
        ),
        (1, 32, Reply::Cleared { entries: 12 }),
        (1, 25, Reply::Permit { permit: 77, ends_in: 10_000 }),
        (1, 36, Reply::Wanted { permit: 77, ends_in: 10_000, key: "board/aldermouth" }),
        (
            1,
            20,
            Reply::Failed {
                code: FailureKind::MissingScope.code(),
                unchanged: false,
                request_id: 0,
                retry_after: None,
                detail: "no",
            },
        ),
        (
            1,
            26,
            Reply::Failed {
                code: FailureKind::OriginFailed.code(),
                unchanged: true,
                request_id: 0x0102_0304,
                retry_after: None,
                detail: "no",
            },
        ),
    ];
    // Every source and every code.
    use Source::{Hit, Joined, Origin, Stale, StaleOnError};
    for source in [Hit, Stale, StaleOnError, Origin, Joined] {
        replies.push((1, 30, Reply::Value(Value { source, ..value })));
    }
    replies.push((1, 30, Reply::Value(Value { due: true, ..value })));
    let kinds = FailureKind::ALL.iter().filter(|kind| kind.is_on_wire());
    replies.extend(kinds.map(|kind| {
        let retry_after = (*kind == FailureKind::QuotaExceeded).then_some(250);
        let (code, detail) = (kind.code(), "why");
        (1, 31, Reply::Failed { code, unchanged: false, request_id: 0, retry_after, detail })
    }));
    replies
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn unhex(text: &str) -> Vec<u8> {
    (0..text.len())
        .step_by(2)
        .map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap())
        .collect()
}

/// Every vector as its line says it: direction, what it is, and its bytes.
fn lines() -> Vec<String> {
    let line = |side: &str, (namespace, id): (u16, u32), what: String, bytes: &[u8]| {
        format!("{side} | namespace {namespace}, id {id} | {what} | {}", hex(bytes))
    };
    let mut lines = Vec::new();
    for (namespace, id, request) in requests() {
        let mut bytes = Vec::new();
        request.encode(Frame { namespace, id }, &mut bytes);
        lines.push(line("request", (namespace, id), format!("{request:?}"), &bytes));
    }
    for (namespace, id, reply) in replies() {
        let mut bytes = Vec::new();
        reply.encode(Frame { namespace, id }, &mut bytes);
        lines.push(line("reply", (namespace, id), format!("{reply:?}"), &bytes));
    }
    lines
}

#[test]
fn encoded_frames_equal_the_vectors() {
    let made = lines().join("\n") + "\n";
    if std::env::var_os("VERAX_WRITE_VECTORS").is_some() {
        std::fs::write(path(), &made).unwrap();
    }
    assert_eq!(std::fs::read_to_string(path()).unwrap(), made);
}

#[test]
fn vectors_decode_to_the_frames_they_stand_for() {
    let (requests, replies) = (requests(), replies());
    let text = std::fs::read_to_string(path()).unwrap();
    assert_eq!(text.lines().count(), requests.len() + replies.len());
    for (line, number) in text.lines().zip(0..) {
        let bytes = unhex(line.rsplit(' ').next().unwrap());
        let (raw, taken) = next_frame(&bytes, LIMIT).unwrap().unwrap();
        assert_eq!(taken, bytes.len());
        let about = (raw.head.namespace, raw.head.id);
        match requests.get(number) {
            Some((namespace, id, request)) => {
                assert_eq!(
                    (about, Request::decode(raw.head, raw.body)),
                    ((*namespace, *id), Ok(*request))
                );
            }
            None => {
                let (namespace, id, reply) = &replies[number - requests.len()];
                assert_eq!(
                    (about, Reply::decode(raw.head, raw.body)),
                    ((*namespace, *id), Ok(*reply))
                );
            }
        }
    }
}

/// Every frame cut short, made longer, or changed in one byte is either refused or read as
/// something that is written back as the same bytes: nothing is passed over, and nothing panics.
#[test]
fn damaged_frames_are_refused_or_decode_to_valid_frames() {
    for line in std::fs::read_to_string(path()).unwrap().lines() {
        let whole = unhex(line.rsplit(' ').next().unwrap());
        let request = line.starts_with("request");
        for cut in 0..whole.len() {
            let mut bytes = whole[..cut].to_vec();
            assert!(!matches!(next_frame(&bytes, LIMIT), Ok(Some(_))), "{line} cut at {cut}");
            // The same with a length that says that it is whole.
            if cut >= 12 {
                bytes[..4].copy_from_slice(&((cut - 12) as u32).to_le_bytes());
                check(&bytes, request);
            }
        }
        for at in 4..whole.len() {
            for change in [1, 0x80, 0xff] {
                let mut bytes = whole.clone();
                bytes[at] ^= change;
                check(&bytes, request);
            }
        }
    }
}

fn check(bytes: &[u8], request: bool) {
    let Ok(Some((raw, _))) = next_frame(bytes, LIMIT) else { return };
    let frame = Frame { namespace: raw.head.namespace, id: raw.head.id };
    let mut again = Vec::new();
    if request {
        if let Ok(read) = Request::decode(raw.head, raw.body) {
            read.encode(frame, &mut again);
            assert_eq!(hex(&again), hex(bytes), "{read:?}");
        }
    } else if let Ok(read) = Reply::decode(raw.head, raw.body) {
        read.encode(frame, &mut again);
        assert_eq!(hex(&again), hex(bytes), "{read:?}");
    }
}

/// Frames that break the protocol, and what is wrong with each: a server answers them with one
/// *failed* frame of id 0 and closes.
fn breaches() -> Vec<(&'static str, Vec<u8>)> {
    let frame = |kind: u8, flags: u8, body: &[u8]| {
        let mut bytes = (body.len() as u32).to_le_bytes().to_vec();
        bytes.extend([kind, flags, 1, 0, 7, 0, 0, 0]);
        bytes.extend(body);
        bytes
    };
    let text = |length: usize| vec![b'k'; length];
    vec![
        ("a kind that no request has", frame(0x7e, 0, b"")),
        ("a reply in place of a request", frame(0x83, 0, b"")),
        ("a flag that get does not have", frame(0x10, 0x80, b"k")),
        ("a ping with a body", frame(0x03, 0, b"!")),
        ("a key of no bytes", frame(0x12, 0, b"")),
        ("a key of 1,025 bytes", frame(0x12, 0, &text(1_025))),
        ("a key that is not UTF-8", frame(0x12, 0, b"\xff")),
        ("a tag of no bytes", frame(0x16, 0, b"")),
        ("a tag of 129 bytes", frame(0x16, 0, &text(129))),
        ("a release without all of its token", frame(0x22, 0, &[1, 2, 3])),
        ("a put that is both if absent and if matches", frame(0x11, 3, &text(64))),
        ("a put that is both if absent and if revision", frame(0x11, 17, &text(64))),
        ("a put with a flag that it does not have", frame(0x11, 64, &text(64))),
        ("a put with permit and a condition", frame(0x29, 16, &text(64))),
        ("a batch that says it has 1,001 operations", frame(0x14, 0, &1_001u16.to_le_bytes())),
        ("a hello without its mark", frame(0x01, 0, b"HTTP/1.1 200 OK")),
        ("a body of 8 MiB and one byte, which is not sent", {
            let mut bytes = frame(0x10, 0, b"");
            bytes[..4].copy_from_slice(&((8u32 << 20) + 1).to_le_bytes());
            bytes
        }),
    ]
}

#[test]
fn breaches_equal_the_vectors() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/vectors/breaches.txt");
    let mut made = String::new();
    for (what, bytes) in breaches() {
        let error = match next_frame(&bytes, 8 << 20) {
            Err(error) => error,
            Ok(Some((raw, _))) => match Request::decode(raw.head, raw.body) {
                Err(error) => error,
                Ok(request) => panic!("{what}: {request:?}"),
            },
            Ok(None) => panic!("{what}: it is not whole"),
        };
        made += &format!("{what} | {error} | {}\n", hex(&bytes));
    }
    if std::env::var_os("VERAX_WRITE_VECTORS").is_some() {
        std::fs::write(path, &made).unwrap();
    }
    assert_eq!(std::fs::read_to_string(path).unwrap(), made);
}

/// The vectors of one direction, and the flags that those of each kind have.
fn flags_by_kind(side: &str) -> std::collections::HashMap<u8, u8> {
    let mut flags = std::collections::HashMap::new();
    for line in lines().iter().filter(|line| line.starts_with(side)) {
        let bytes = unhex(line.rsplit(' ').next().unwrap());
        *flags.entry(bytes[4]).or_default() |= bytes[5];
    }
    flags
}

#[test]
fn every_kind_and_every_flag_has_a_vector() {
    let requests = flags_by_kind("request");
    let replies = flags_by_kind("reply");
    let rows = OPERATIONS.iter().map(|row| (&requests, row.kind, row.name, row.fields));
    let rows = rows.chain(REPLIES.iter().map(|row| (&replies, row.kind, row.name, row.fields)));
    for (seen, kind, name, fields) in rows {
        let seen = seen.get(&kind).unwrap_or_else(|| panic!("{name} has no vector"));
        for (bit, flag) in fields.iter().flat_map(|field| field.flags) {
            assert!(seen & bit != 0, "{name} has no vector with flag {bit} {flag}");
        }
    }
}
