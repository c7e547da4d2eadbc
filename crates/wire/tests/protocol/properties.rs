//! What goes in comes out, and what is not of this protocol is refused.

use proptest::prelude::*;
use verax_wire::{
    Frame, GetFlags, Head, Lifetime, PermitFlags, Put, PutCondition, Reply, Request, Source, Tags,
    Value, WireError, next_frame,
};

const LIMIT: u32 = 1 << 20;

fn lifetime() -> impl Strategy<Value = Option<Lifetime>> {
    prop::option::of(any::<(u64, u64, u64)>().prop_map(|(a, b, c)| Lifetime {
        max_age: a,
        stale_while_revalidate: b,
        stale_if_error: c,
    }))
}

fn condition() -> impl Strategy<Value = PutCondition> {
    prop_oneof![
        Just(PutCondition::Always),
        Just(PutCondition::IfAbsent),
        any::<u128>().prop_map(PutCondition::IfMatches),
        any::<u64>().prop_map(PutCondition::IfRevision),
    ]
}

fn survives(request: Request<'_>, frame: Frame) {
    let mut bytes = vec![0xaa; 3];
    request.encode(frame, &mut bytes);
    let (raw, taken) = next_frame(&bytes[3..], LIMIT).unwrap().unwrap();
    assert_eq!(taken + 3, bytes.len());
    assert_eq!((raw.head.namespace, raw.head.id), (frame.namespace, frame.id));
    assert_eq!(Request::decode(raw.head, raw.body).unwrap(), request);
}

proptest! {
    #[test]
    fn requests_round_trip(
        key in ".{1,60}", value in prop::collection::vec(any::<u8>(), 0..500),
        media_type in "[a-z]{0,20}/[a-z]{0,20}", tags in prop::collection::vec("[ -~]{1,40}", 0..5),
        lifetime in lifetime(), condition in condition(), numbers: (i64, u64, u64, u64, u64),
        bits: (bool, bool, bool, bool), revision: bool, namespace: u16, id: u32,
    ) {
        let frame = Frame { namespace, id };
        let tags: Vec<&str> = tags.iter().map(String::as_str).collect();
        let (amount, take, count, period, burst) = numbers;
        let flags = GetFlags {
            only_if_cached: bits.0, refresh: bits.1, details: bits.2, may_refill: bits.3, revision,
            stale_if_error: revision,
        };
        let put = Put {
            key: &key, value: &value, media_type: &media_type, lifetime, tags: Tags::of(&tags), condition,
            tell_revision: revision,
        };
        let operations = [Request::Get { key: &key, flags }, Request::Put(put), Request::Delete { key: &key }];
        operations.into_iter().for_each(|request| survives(request, frame));
        survives(Request::Batch(verax_wire::BatchOperations::of(&operations)), frame);
        survives(Request::SetLifetime { key: &key, lifetime }, frame);
        survives(Request::Add { key: &key, amount, lifetime }, frame);
        survives(Request::AcquireRate { key: &key, amount: take, count, period, burst }, frame);
        let (name, owner, (lease, wait, token)) = (&*key, &*media_type, (count, period, burst));
        survives(Request::AcquireLock { name, owner, lease, wait, ends_with_connection: bits.0 }, frame);
        survives(Request::RenewLock { name, fencing_token: token, lease }, frame);
        survives(Request::ReleaseLock { name, fencing_token: token }, frame);
        survives(Request::PeekLock { name }, frame);
        survives(Request::Clear { prefix: bits.0.then_some(&key) }, frame);
        survives(Request::Trace { traceparent: &media_type, tracestate: &key }, frame);
        let flags = PermitFlags { stale: bits.1, details: bits.2, refresh: bits.3 };
        survives(Request::AcquirePermit { key: &key, flags, owner, lease, wait }, frame);
        let put = Put { condition: PutCondition::Always, ..put };
        survives(Request::PutWithPermit { permit: token, put }, frame);
        survives(Request::ReleasePermit { key: &key, permit: token, fail_all: bits.0 }, frame);
    }

    #[test]
    fn any_bytes_are_a_frame_or_an_error(
        kind: u8, flags: u8, body in prop::collection::vec(any::<u8>(), 0..200)
    ) {
        let head = Head { kind, flags, namespace: 1, id: 1 };
        let frame = Frame { namespace: 1, id: 1 };
        if let Ok(request) = Request::decode(head, &body) {
            let mut bytes = Vec::new();
            request.encode(frame, &mut bytes);
            prop_assert_eq!((bytes[4], bytes[5], &bytes[12..]), (kind, flags, &body[..]));
        }
        if let Ok(reply) = Reply::decode(head, &body) {
            let mut bytes = Vec::new();
            reply.encode(frame, &mut bytes);
            prop_assert_eq!((bytes[4], bytes[5], &bytes[12..]), (kind, flags, &body[..]));
        }
    }

    #[test]
    fn frames_decode_across_read_boundaries(sizes in prop::collection::vec(0..300usize, 1..6), cut: prop::sample::Index) {
        let mut bytes = Vec::new();
        for (size, id) in sizes.iter().zip(1..) {
            let value = vec![7; *size];
            let value = Value { source: Source::Hit, due: false, time_left: 5, details: None, revision: None, value: &value };
            Reply::Value(value).encode(Frame { namespace: 1, id }, &mut bytes);
        }
        let end = cut.index(bytes.len() + 1);
        let (mut at, mut found) = (0, 0);
        while let Some((raw, taken)) = next_frame(&bytes[at..end], LIMIT).unwrap() {
            found += 1;
            prop_assert_eq!(raw.head.id, found);
            at += taken;
        }
        let missing = verax_wire::frame::missing(&bytes[at..end]);
        prop_assert!(end + missing <= bytes.len(), "more is waited for than is sent");
    }
}

#[test]
fn a_length_beyond_the_limit_is_refused_from_the_header_alone() {
    let mut bytes = vec![0; 12];
    bytes[..4].copy_from_slice(&u32::MAX.to_le_bytes());
    let refused = next_frame(&bytes, 1_000).unwrap_err();
    assert_eq!(refused, WireError::TooLarge { length: u32::MAX, limit: 1_000 });
}

#[test]
fn a_large_value_may_follow_its_head() {
    let value = Value {
        source: Source::Hit,
        due: false,
        time_left: 9,
        details: None,
        revision: None,
        value: &[3; 5_000],
    };
    let frame = Frame { namespace: 2, id: 3 };
    let (mut whole, mut parts) = (Vec::new(), Vec::new());
    Reply::Value(value).encode(frame, &mut whole);
    value.encode_before_bytes(frame, &mut parts);
    parts.extend_from_slice(value.value);
    assert_eq!(whole, parts);
}
