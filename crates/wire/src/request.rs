//! What clients send: the one table of operations.

use verax_core::access::Right;

use crate::bytes::{Reader, put_long_text, put_short_text};
use crate::error::WireError;
use crate::field::{
    Field, Flag, FlagName, Flags, I64, IfFlag, Key, Rest, ShortText, Tag, U16, U64, U128, flag_set,
};
use crate::frame::{self, Frame, Head};
use crate::lifetime::Lifetime;
use crate::limits::{MAGIC, MAX_BATCH_OPERATIONS};
use crate::put::{EntryTag, Put, Unconditional};
use crate::sequence::{Element, Sequence};
use crate::table::{FieldShape, Needs, Operation, frames};

const READ: Needs = Needs::One(Right::Read);
const WRITE: Needs = Needs::One(Right::Write);
const DELETE: Needs = Needs::Either(Right::Write, Right::Invalidate);
const LOCK: Needs = Needs::One(Right::Lock);

frames! {
    /// A request of a client.
    Request<'a>, OPERATIONS: Operation;

    /// Opens the conversation.
    Hello = 0x01, "hello", { needs: Needs::Nothing, batched: false, replies: &["welcome"] }
        (hello: Hello<'a>);
    /// Opens a namespace under a number for later requests.
    Open = 0x02, "open", { needs: Needs::Nothing, batched: false, replies: &["opened"] } {
        /// The tenant's name.
        tenant: &'a str => ShortText,
        /// The namespace's name.
        namespace: &'a str => ShortText,
    };
    /// Requests a pong.
    Ping = 0x03, "ping", { needs: Needs::Nothing, batched: false, replies: &["pong"] };
    /// Announces that no request follows.
    Goodbye = 0x04, "goodbye", { needs: Needs::Nothing, batched: false, replies: &[] };
    /// Subscribes to the invalidations of the namespace, for near copies.
    Watch = 0x05, "watch", { needs: READ, batched: false, replies: &["done", "invalidated"] };
    /// Gives the trace context of the next request on this connection.
    Trace = 0x06, "trace", { needs: Needs::Nothing, batched: false, replies: &[] } {
        /// The `traceparent` field of W3C Trace Context.
        traceparent: &'a str => ShortText,
        /// The `tracestate` field; empty for none.
        tracestate: &'a str => Rest,
    };
    /// Looks an entry up.
    Get = 0x10, "get", { needs: READ, batched: true, replies: &["value", "miss"] } {
        /// How.
        flags: GetFlags => GetFlags,
        /// Its key.
        key: &'a str => Key,
    };
    /// Stores a value.
    Put = 0x11, "put", { needs: WRITE, batched: true, replies: &["done"] } (put: Put<'a>);
    /// Deletes an entry.
    Delete = 0x12, "delete", { needs: DELETE, batched: true, replies: &["done"] } {
        /// Its key.
        key: &'a str => Key,
    };
    /// Replaces the lifetime of an entry, counted from now.
    SetLifetime = 0x13, "set lifetime", { needs: WRITE, batched: false, replies: &["done", "miss"] } {
        /// The lifetime; `None` for the namespace's.
        lifetime: Option<Lifetime> => IfFlag<1, Lifetime>,
        /// Its key.
        key: &'a str => Key,
    };
    /// Several gets, puts and deletes.
    Batch = 0x14, "batch", { needs: Needs::OfItsParts, batched: false, replies: &["batch"] }
        (operations: BatchOperations<'a>);
    /// Lists entries.
    List = 0x15, "list", { needs: READ, batched: false, replies: &["page"] } {
        /// The maximum number of entries on the page.
        limit: u16 => U16,
        /// Where to continue, from the previous page; empty for the first.
        cursor: &'a str => ShortText,
        /// Only keys that start with this.
        prefix: &'a str => Rest,
    };
    /// Invalidates every entry with a tag.
    InvalidateTag = 0x16, "invalidate tag", { needs: DELETE, batched: false, replies: &["done"] } {
        /// The tag.
        tag: &'a str => Tag,
    };
    /// Adds to a counter.
    Add = 0x17, "add", { needs: WRITE, batched: false, replies: &["counted"] } {
        /// The amount to add.
        amount: i64 => I64,
        /// The lifetime of a counter that this creates; `None` for the namespace's.
        lifetime: Option<Lifetime> => IfFlag<1, Lifetime>,
        /// Its key.
        key: &'a str => Key,
    };
    /// Acquires from a rate limit: `count` are replenished in each period, up to `burst`.
    AcquireRate = 0x18, "acquire rate", {
        needs: WRITE, batched: false, replies: &["rate acquired", "later"]
    } {
        /// How much to acquire.
        amount: u64 => U64,
        /// How much is replenished in each period.
        count: u64 => U64,
        /// The period, in milliseconds.
        period: u64 => U64,
        /// The maximum that can be available.
        burst: u64 => U64,
        /// Its key.
        key: &'a str => Key,
    };
    /// Removes every entry of the namespace, or those whose keys start with a prefix.
    Clear = 0x19, "clear", {
        needs: Needs::One(Right::Invalidate), batched: false, replies: &["cleared"]
    } {
        /// The prefix; `None` for every entry.
        prefix: Option<&'a str> => IfFlag<1, Key>,
    };
    /// Reports that a value cannot be decoded, which removes it unless another one is there.
    ReportDamage = 0x1a, "report damage", { needs: DELETE, batched: false, replies: &["done"] } {
        /// The entity tag of the value.
        entity_tag: EntryTag => U128,
        /// Why, for people.
        reason: &'a str => ShortText,
        /// Its key.
        key: &'a str => Key,
    };
    /// Acquires a lock.
    AcquireLock = 0x20, "acquire lock", {
        needs: LOCK, batched: false, replies: &["granted", "held"]
    } {
        /// Whether the lease ends with the connection.
        ends_with_connection: bool => Flag<1>,
        /// How long the lease lasts unless it is renewed, in milliseconds.
        lease: u64 => U64,
        /// How long to wait for it, in milliseconds.
        wait: u64 => U64,
        /// The owner's display name.
        owner: &'a str => ShortText,
        /// Its name.
        name: &'a str => Key,
    };
    /// Extends the lease of a lock, counted from now.
    RenewLock = 0x21, "renew lock", { needs: LOCK, batched: false, replies: &["granted"] } {
        /// The lease's fencing token.
        fencing_token: u64 => U64,
        /// How long it lasts from now on, in milliseconds.
        lease: u64 => U64,
        /// The lock's name.
        name: &'a str => Key,
    };
    /// Releases a lock.
    ReleaseLock = 0x22, "release lock", { needs: LOCK, batched: false, replies: &["done"] } {
        /// The lease's fencing token.
        fencing_token: u64 => U64,
        /// The lock's name.
        name: &'a str => Key,
    };
    /// Reports the state of a lock.
    PeekLock = 0x23, "peek lock", { needs: READ, batched: false, replies: &["held", "miss"] } {
        /// The lock's name.
        name: &'a str => Key,
    };
    /// Looks an entry up, or acquires the permit to refill it.
    AcquirePermit = 0x28, "acquire permit", {
        needs: Needs::ReadAndWrite, batched: false, replies: &["value", "permit", "later"]
    } {
        /// How.
        flags: PermitFlags => PermitFlags,
        /// How long the permit lasts, in milliseconds.
        lease: u64 => U64,
        /// How long to wait while another caller refills, in milliseconds.
        wait: u64 => U64,
        /// The owner's display name.
        owner: &'a str => ShortText,
        /// The key.
        key: &'a str => Key,
    };
    /// Stores the value that a permit was granted for.
    PutWithPermit = 0x29, "put with permit", { needs: WRITE, batched: false, replies: &["done"] } {
        /// The permit's number.
        permit: u64 => U64,
        /// The value; its permit is its condition.
        put: Put<'a> => Unconditional,
    };
    /// Releases a permit without a value.
    ReleasePermit = 0x2a, "release permit", { needs: WRITE, batched: false, replies: &["done"] } {
        /// Whether every waiting caller fails; otherwise the first of them may refill.
        fail_all: bool => Flag<1>,
        /// The permit's number.
        permit: u64 => U64,
        /// The key.
        key: &'a str => Key,
    };
    /// Waits for a key that a warm run wants to be refilled.
    AwaitRefill = 0x2b, "await refill", {
        needs: Needs::ReadAndWrite, batched: false, replies: &["wanted", "miss"]
    } {
        /// How long the permit lasts, in milliseconds.
        lease: u64 => U64,
        /// How long to wait, in milliseconds.
        wait: u64 => U64,
        /// The display name of the service; empty for the token's note.
        owner: &'a str => Rest,
    };
}

flag_set! {
    /// Options of a get.
    GetFlags {
        /// Return a cached value or a miss.
        only_if_cached = 1, "only if cached";
        /// Bypass the cache and read the origin.
        refresh = 2, "refresh";
        /// Return media type, age, entity tag and tags.
        details = 4, "details";
        /// Say if the entry is due for early refresh by the caller.
        may_refill = 8, "may refill";
        /// Return the revision of the entry.
        revision = 16, "revision";
        /// Also return a copy within its stale-if-error time: the caller's own refill failed.
        stale_if_error = 32, "stale if error";
    }
}

flag_set! {
    /// Options of acquiring a permit.
    PermitFlags {
        /// Accept a stale copy while another caller refills.
        stale = 1, "stale will do";
        /// Return media type, age, entity tag and tags.
        details = 2, "details";
        /// Acquire the permit even if a fresh copy or a negative entry exists.
        refresh = 4, "refresh";
    }
}

/// The first frame of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hello<'a> {
    /// The lowest version that the client speaks.
    pub lowest: u16,
    /// The highest version that the client speaks.
    pub highest: u16,
    /// The token, which determines what the connection may do.
    pub token: &'a str,
    /// What the client is, for the log.
    pub client: &'a str,
}

impl<'a> Field<'a> for Hello<'a> {
    type Value = Self;
    const SHAPE: &'static str = "mark `VRXW`, lowest version (2), highest version (2), token (long text), name of the client (short text)";

    fn read(_: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        if body.take(4, "mark")? != MAGIC {
            return Err(WireError::Magic);
        }
        Ok(Self {
            lowest: body.u16("version")?,
            highest: body.u16("version")?,
            token: body.long_text("token")?,
            client: body.short_text("client")?,
        })
    }

    fn write(hello: &Self, out: &mut Vec<u8>) {
        out.extend_from_slice(&MAGIC);
        out.extend_from_slice(&hello.lowest.to_le_bytes());
        out.extend_from_slice(&hello.highest.to_le_bytes());
        put_long_text(out, hello.token);
        put_short_text(out, hello.client);
    }
}

/// The operations of a batch: kind, flags, body length, and body of each.
pub type BatchOperations<'a> = Sequence<'a, Request<'a>, OperationElement>;

#[doc(hidden)]
pub enum OperationElement {}

impl<'a> Element<'a, Request<'a>> for OperationElement {
    const SHAPE: &'static str =
        "number (2), then for each operation kind (1), flags (1), length (4), body";
    const COUNT: &'static str = "number of operations";
    const MAX: usize = MAX_BATCH_OPERATIONS;

    fn read(body: &mut &'a [u8]) -> Result<Request<'a>, WireError> {
        Request::read_element(body, "operation")
    }

    fn write(operation: &Request<'a>, out: &mut Vec<u8>) {
        operation.write_element(out);
    }
}
