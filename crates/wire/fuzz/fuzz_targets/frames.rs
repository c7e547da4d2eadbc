//! Any bytes are split into frames, and any frame is a request or a reply that is written back as
//! the same bytes, or an error. Nothing panics, and nothing is read beyond the frame.

#![no_main]

use libfuzzer_sys::fuzz_target;
use verax_wire::{Frame, Reply, Request, next_frame};

/// As large as an input of the fuzzer, so that lengths beyond it are met as well.
const LIMIT: u32 = 4_096;

fuzz_target!(|input: &[u8]| {
    let mut rest = input;
    while let Ok(Some((raw, taken))) = next_frame(rest, LIMIT) {
        let (bytes, after) = rest.split_at(taken);
        let frame = Frame { namespace: raw.head.namespace, id: raw.head.id };
        let mut again = Vec::new();
        if let Ok(request) = Request::decode(raw.head, raw.body) {
            request.encode(frame, &mut again);
            assert_eq!(again, bytes);
            // What is looked at later was checked when it was decoded.
            if let Request::Batch(operations) = &request {
                assert_eq!(operations.iter().count(), operations.len());
            }
            again.clear();
        }
        if let Ok(reply) = Reply::decode(raw.head, raw.body) {
            reply.encode(frame, &mut again);
            assert_eq!(again, bytes);
        }
        rest = after;
    }
});
