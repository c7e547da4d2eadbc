//! Handles received frames: the hello, opened namespaces, and requests.

use std::sync::Arc;
use std::time::Instant;

use bytes::Buf;
use verax_api::FailureKind;
use verax_control::Role;
use verax_control::access::Caller;
use verax_core::Name;
use verax_engine::turns::TURN;
use verax_engine::{EngineError, Namespace, TraceContext};
use verax_wire::{
    Frame, Hello, Nodes, RawFrame, Reply, Request, VERSION, Welcome, WireError, next_frame,
};

use super::dispatch::dispatch;
use super::hits::Hits;
use super::nodes::addresses;
use super::session::{Ended, Opened, Peer, Session, WRITE_AT};
use crate::admission::admit;
use crate::failure::Failure;

/// The maximum size of a body beyond its value, in bytes: key, media type, tags, numbers, and the
/// heads of a batch.
const BEYOND_VALUE: u64 = 64 << 10;

/// After how many reads the end of the turn is checked; after any other request, which may be slow,
/// it always is.
const LOOK_EVERY: u32 = 8;

/// Longer vendor data of a trace context is dropped (W3C Trace Context, section 3.3.1.5).
const MAX_TRACESTATE_BYTES: usize = 512;

/// The maximum number of namespaces one connection opens.
const MAX_OPENED: usize = 4_096;

/// The trace context of a request. Values that no HTTP field can have are ignored, as the standard
/// asks for malformed ones.
fn trace_context(traceparent: &str, tracestate: &str) -> Option<TraceContext> {
    let is_field = |text: &str| text.bytes().all(|byte| (0x20..0x7f).contains(&byte));
    (!traceparent.is_empty() && is_field(traceparent)).then(|| TraceContext {
        traceparent: traceparent.to_owned(),
        tracestate: Some(tracestate)
            .filter(|state| (1..=MAX_TRACESTATE_BYTES).contains(&state.len()) && is_field(state))
            .map(str::to_owned),
    })
}

impl Session {
    /// Handles complete requests; returns whether some are left because the turn is over or too
    /// many replies are queued.
    pub(super) fn answer_received(&mut self) -> Result<bool, Ended> {
        if self.received.is_empty() {
            return Ok(false);
        }
        self.check_peer()?;
        if let Some(peer) = &self.peer {
            peer.caller.note_use();
        }
        self.arrival.discard(&mut self.received);
        // Taken out, so that requests can borrow from it while they are handled.
        let received = std::mem::take(&mut self.received);
        let (mut at, mut hits) = (0, Hits::default());
        let (began, mut answered) = (Instant::now(), 0u32);
        let outcome = loop {
            if self.ending || self.waiting.len() >= self.limits.in_flight {
                break Ok(false);
            }
            if self.outbox.len() >= WRITE_AT {
                break Ok(true);
            }
            match next_frame(&received[at..], self.max_body_bytes) {
                Ok(Some((frame, taken))) => {
                    at += taken;
                    // Held until the request is done, or reserved elsewhere.
                    let _arrived = self.arrival.end();
                    if let Err(ended) = self.take(frame, &mut hits) {
                        break Err(ended);
                    }
                    answered += 1;
                    let looks = !frame.head.is_get() || answered.is_multiple_of(LOOK_EVERY);
                    if looks && began.elapsed() >= TURN {
                        break Ok(true);
                    }
                }
                Ok(None) => break Ok(false),
                Err(error) => break Err(Ended::Protocol(error)),
            }
        };
        hits.count();
        self.received = received;
        self.received.advance(at);
        outcome
    }

    fn take(&mut self, raw: RawFrame<'_>, hits: &mut Hits) -> Result<(), Ended> {
        let head = raw.head;
        let frame = Frame { namespace: head.namespace, id: head.id };
        let request = Request::decode(head, raw.body)?;
        match (&self.peer, request) {
            (None, Request::Hello(hello)) => self.hello(frame, hello),
            (None, _) => Err(Ended::Protocol(WireError::Kind(head.kind))),
            (Some(_), Request::Hello(_)) => Err(Ended::Protocol(WireError::Kind(head.kind))),
            (_, Request::Ping) => {
                self.outbox.add(frame, &Reply::Pong);
                Ok(())
            }
            (_, Request::Goodbye) => {
                self.ending = true;
                Ok(())
            }
            (_, Request::Trace { traceparent, tracestate }) => {
                self.trace = trace_context(traceparent, tracestate);
                Ok(())
            }
            (_, _) if self.service.control().role() == Role::Standby => {
                self.fail(frame, &EngineError::Standby.into());
                Ok(())
            }
            (Some(peer), Request::Open { tenant, namespace }) => {
                let caller = Arc::clone(&peer.caller);
                let opened = self.open(&caller, tenant, namespace);
                let opened = opened.and_then(|opened| match opened.namespace() {
                    Some(namespace) if !caller.is_admin() => {
                        self.place.count_for(namespace.share())?;
                        Ok(opened)
                    }
                    _ => Ok(opened),
                });
                self.reply_opened(frame, opened);
                Ok(())
            }
            (_, request) => {
                let admitted = self.admit(frame, &request);
                if let Err(failure) = admitted.and_then(|()| dispatch(self, frame, request, hits)) {
                    self.pauses |= failure.kind() == FailureKind::QuotaExceeded;
                    self.fail(frame, &failure);
                }
                self.trace = None;
                Ok(())
            }
        }
    }

    /// Lets a request pass within the quotas; a batch counts each of its operations.
    fn admit(&self, frame: Frame, request: &Request<'_>) -> Result<(), Failure> {
        let opened = self.opened(frame.namespace)?;
        let (Some(peer), Some(namespace)) = (&self.peer, opened.namespace()) else { return Ok(()) };
        admit(&peer.caller, namespace, &self.place)?;
        if let Request::Batch(operations) = request {
            namespace.charge_requests((operations.len() as u64).saturating_sub(1));
        }
        Ok(())
    }

    fn hello(&mut self, frame: Frame, hello: Hello<'_>) -> Result<(), Ended> {
        let refused = if !(hello.lowest..=hello.highest).contains(&VERSION) {
            let Hello { lowest, highest, .. } = hello;
            let detail = format!(
                "this server speaks version {VERSION} of the protocol, the client {lowest} to {highest}"
            );
            Some(Failure::new(FailureKind::UnsupportedVersion, detail))
        } else {
            match self.service.control().token_caller(hello.token) {
                Ok(caller) => {
                    let (token, revision) =
                        (hello.token.to_owned(), self.service.control().access_revision());
                    tracing::debug!(
                        who = caller.display_name(),
                        client = hello.client,
                        "a wire client connected"
                    );
                    self.place.set_authenticated();
                    self.peer = Some(Peer { caller, token, revision });
                    None
                }
                Err(error) => Some(Failure::from(error)),
            }
        };
        if let Some(failure) = refused {
            // A goodbye was sent: the connection only drains.
            self.fail(frame, &failure);
            self.ending = true;
            return Ok(());
        }
        let largest = verax_core::policy::MAX_VALUE_BYTES + BEYOND_VALUE;
        self.max_body_bytes = u32::try_from(largest).unwrap_or(u32::MAX);
        let topology = self.service.control().topology();
        let this = self.service.control().node().map(|node| node.id);
        let nodes = addresses(&topology, this, self.service.control().role());
        let welcome = Welcome {
            version: VERSION,
            max_body_bytes: self.max_body_bytes,
            max_in_flight: u32::try_from(self.limits.in_flight).unwrap_or(u32::MAX),
            idle_timeout: u32::try_from(self.limits.idle.as_millis()).unwrap_or(u32::MAX),
            topology: topology.revision,
            nodes: Nodes::of(&nodes),
        };
        self.outbox.add(frame, &Reply::Welcome(welcome));
        Ok(())
    }

    fn open(&self, caller: &Caller, tenant: &str, name: &str) -> Result<Opened, Failure> {
        let tenant = Name::new(tenant).map_err(Failure::invalid)?;
        let name = Name::new(name).map_err(Failure::invalid)?;
        let control = self.service.control();
        let may_clear = control.open_clearer(caller, &tenant, &name).is_ok();
        let opened = Opened::open(control, caller, tenant, name);
        match (&opened.reads, opened.namespace()) {
            (Err(error), None) if !may_clear => Err(error.clone().into()),
            _ => Ok(opened),
        }
    }

    fn reply_opened(&mut self, frame: Frame, opened: Result<Opened, Failure>) {
        let opened = match opened {
            Ok(_) if self.opened.len() == MAX_OPENED => {
                let detail = format!("a connection opens at most {MAX_OPENED} namespaces");
                return self.fail(frame, &Failure::invalid(detail));
            }
            Ok(opened) => opened,
            Err(failure) => return self.fail(frame, &failure),
        };
        let max_value_bytes = opened.namespace().map_or(0, Namespace::max_value_bytes);
        let reply = Reply::Opened {
            may_read: opened.reads.is_ok(),
            may_write: opened.writes.is_ok(),
            max_value_bytes,
        };
        if self.turns.is_none() {
            self.turns = opened.turns().cloned();
        }
        self.opened.push(opened);
        let number = self.opened.len() as u16;
        self.outbox.add(Frame { namespace: number, id: frame.id }, &reply);
    }
}
