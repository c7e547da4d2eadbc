//! What servers send.

use crate::bytes::{Reader, put_long_text, put_short_text};
use crate::error::WireError;
use crate::frame::{self, Frame, Head};
use crate::parts::{EntryTag, Tags};

const WELCOME: u8 = 0x81;
const OPENED: u8 = 0x82;
const PONG: u8 = 0x83;
const GOODBYE: u8 = 0x84;
const INVALIDATED: u8 = 0x85;
const VALUE: u8 = 0x90;
const MISS: u8 = 0x91;
const DONE: u8 = 0x92;
const BATCH: u8 = 0x94;
const PAGE: u8 = 0x95;
const COUNTED: u8 = 0x97;
const RATE_ACQUIRED: u8 = 0x98;
const LATER: u8 = 0x99;
const GRANTED: u8 = 0xa0;
const HELD: u8 = 0xa1;
const PERMIT: u8 = 0xa8;
const FAILED: u8 = 0xff;

/// The answer to a hello.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Welcome<'a> {
    /// The version that both will speak.
    pub version: u16,
    /// The largest body that the server takes.
    pub largest_body: u32,
    /// How many requests may be unanswered at a time; further ones wait in the connection.
    pub most_in_flight: u32,
    /// A connection on which nothing is heard for this long is closed, in milliseconds.
    pub idle_timeout: u32,
    /// The revision of the topology: which nodes there are.
    pub topology: u64,
    /// The nodes' addresses; one today.
    pub nodes: Nodes<'a>,
}

/// The addresses of nodes, as they stand in a welcome: behind their number, each behind its length.
/// An empty address is that of the connection itself.
#[derive(Clone, Copy)]
pub enum Nodes<'a> {
    /// Decoded and checked, in the frame's bytes.
    #[doc(hidden)]
    Encoded { count: u8, bytes: &'a [u8] },
    /// To be encoded.
    #[doc(hidden)]
    Listed(&'a [&'a str]),
}

impl<'a> Nodes<'a> {
    /// Addresses to be sent.
    pub fn of(addresses: &'a [&'a str]) -> Self {
        Nodes::Listed(addresses)
    }

    /// The addresses in turn.
    pub fn iter(&self) -> impl Iterator<Item = &'a str> + use<'a> {
        let (encoded, listed) = match *self {
            Nodes::Encoded { bytes, .. } => (bytes, [].as_slice()),
            Nodes::Listed(addresses) => (&[][..], addresses),
        };
        let mut reader = Reader(encoded);
        std::iter::from_fn(move || reader.short_text("node").ok()).chain(listed.iter().copied())
    }

    fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let count = reader.u8("number of nodes")?;
        let before = reader.0;
        for _ in 0..count {
            reader.short_text("node")?;
        }
        Ok(Nodes::Encoded { count, bytes: &before[..before.len() - reader.0.len()] })
    }

    fn write(&self, out: &mut Vec<u8>) {
        let count = match self {
            Nodes::Encoded { count, .. } => *count,
            Nodes::Listed(addresses) => addresses.len() as u8,
        };
        out.push(count);
        self.iter().for_each(|address| put_short_text(out, address));
    }
}

impl PartialEq for Nodes<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.iter().eq(other.iter())
    }
}

impl Eq for Nodes<'_> {}

impl std::fmt::Debug for Nodes<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

/// Where a value came from. The numbers are part of the protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Source {
    /// From the cache, fresh.
    Hit = 0,
    /// From the cache, stale, while it is refreshed.
    Stale = 1,
    /// From the cache, stale, because the origin failed.
    StaleOnError = 2,
    /// From the origin, for this request.
    Origin = 3,
    /// From the origin, by a refill that another caller had begun.
    Joined = 4,
    /// From the cache, fresh, and due to be refreshed early; for callers that can refill.
    Due = 5,
}

impl Source {
    fn of(number: u8) -> Result<Self, WireError> {
        use Source::{Due, Hit, Joined, Origin, Stale, StaleOnError};
        let all = [Hit, Stale, StaleOnError, Origin, Joined, Due];
        all.into_iter().find(|s| *s as u8 == number).ok_or(WireError::Range("source"))
    }
}

/// What is told about an entry when a look-up asks for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Details<'a> {
    /// How long ago the value was stored, in milliseconds.
    pub age: u64,
    /// Its validator.
    pub entity_tag: EntryTag,
    /// Its media type.
    pub media_type: &'a str,
    /// Its tags.
    pub tags: Tags<'a>,
}

/// A value that was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Value<'a> {
    /// Where it came from.
    pub source: Source,
    /// Milliseconds until it is stale; 0 or less when it is.
    pub time_left: i64,
    /// More about it, if it was asked for.
    pub details: Option<Details<'a>>,
    /// The revision of its entry, if it was asked for and the value is stored.
    pub revision: Option<u64>,
    /// The value.
    pub value: &'a [u8],
}

impl<'a> Value<'a> {
    fn flags(&self) -> u8 {
        let details = if self.details.is_some() { DETAILS } else { 0 };
        let revision = if self.revision.is_some() { REVISION } else { 0 };
        details | revision
    }

    fn read(flags: u8, reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let source = Source::of(reader.u8("source")?)?;
        let time_left = reader.i64("time left")?;
        let details = match flags & DETAILS {
            0 => None,
            _ => Some(Details {
                age: reader.u64("age")?,
                entity_tag: reader.u128("entity tag")?,
                media_type: reader.short_text("media type")?,
                tags: Tags::read(reader)?,
            }),
        };
        let revision = (flags & REVISION != 0).then(|| reader.u64("revision")).transpose()?;
        Ok(Self { source, time_left, details, revision, value: reader.rest() })
    }

    fn write_before_value(&self, out: &mut Vec<u8>) {
        out.push(self.source as u8);
        out.extend_from_slice(&self.time_left.to_le_bytes());
        if let Some(details) = &self.details {
            out.extend_from_slice(&details.age.to_le_bytes());
            out.extend_from_slice(&details.entity_tag.to_le_bytes());
            put_short_text(out, details.media_type);
            details.tags.write(out);
        }
        if let Some(revision) = self.revision {
            out.extend_from_slice(&revision.to_le_bytes());
        }
    }

    /// Appends the frame without the value's bytes, which must follow from elsewhere: for large
    /// values that are not to be copied.
    pub fn encode_before_value(&self, frame: Frame, out: &mut Vec<u8>) {
        let start = frame::begin(out, frame, VALUE, self.flags());
        self.write_before_value(out);
        frame::finish(out, start, self.value.len());
    }
}

/// An entry of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listed<'a> {
    /// Its key.
    pub key: &'a str,
    /// The size of its value.
    pub value_bytes: u64,
    /// How long ago it was stored, in milliseconds.
    pub age: u64,
    /// Milliseconds until it is stale; 0 or less when it is.
    pub time_left: i64,
    /// Its media type.
    pub media_type: &'a str,
}

/// A page of a listing, as it stands in its frame.
#[derive(Clone, Copy)]
pub enum Page<'a> {
    /// Decoded and checked, in the frame's bytes.
    #[doc(hidden)]
    Encoded { cursor: &'a str, count: u16, bytes: &'a [u8] },
    /// To be encoded.
    #[doc(hidden)]
    Listed { cursor: &'a str, entries: &'a [Listed<'a>] },
}

impl<'a> Page<'a> {
    /// A page to be sent; `cursor` is where the next one starts, empty on the last one.
    pub fn of(cursor: &'a str, entries: &'a [Listed<'a>]) -> Self {
        Page::Listed { cursor, entries }
    }

    /// Where the next page starts; empty on the last one.
    pub fn cursor(&self) -> &'a str {
        match self {
            Page::Encoded { cursor, .. } | Page::Listed { cursor, .. } => cursor,
        }
    }

    /// The entries in turn.
    pub fn iter(&self) -> impl Iterator<Item = Listed<'a>> + use<'a> {
        let (encoded, listed) = match *self {
            Page::Encoded { bytes, .. } => (bytes, [].as_slice()),
            Page::Listed { entries, .. } => (&[][..], entries),
        };
        let mut reader = Reader(encoded);
        std::iter::from_fn(move || listed_entry(&mut reader).ok()).chain(listed.iter().copied())
    }

    fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let cursor = reader.short_text("cursor")?;
        let count = reader.u16("number of entries")?;
        let before = reader.0;
        for _ in 0..count {
            listed_entry(reader)?;
        }
        Ok(Page::Encoded { cursor, count, bytes: &before[..before.len() - reader.0.len()] })
    }

    fn write(&self, out: &mut Vec<u8>) {
        let count = match self {
            Page::Encoded { count, .. } => *count,
            Page::Listed { entries, .. } => entries.len() as u16,
        };
        put_short_text(out, self.cursor());
        out.extend_from_slice(&count.to_le_bytes());
        for entry in self.iter() {
            put_long_text(out, entry.key);
            out.extend_from_slice(&entry.value_bytes.to_le_bytes());
            out.extend_from_slice(&entry.age.to_le_bytes());
            out.extend_from_slice(&entry.time_left.to_le_bytes());
            put_short_text(out, entry.media_type);
        }
    }
}

fn listed_entry<'a>(reader: &mut Reader<'a>) -> Result<Listed<'a>, WireError> {
    Ok(Listed {
        key: reader.long_text("key")?,
        value_bytes: reader.u64("size")?,
        age: reader.u64("age")?,
        time_left: reader.i64("time left")?,
        media_type: reader.short_text("media type")?,
    })
}

impl PartialEq for Page<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.cursor() == other.cursor() && self.iter().eq(other.iter())
    }
}

impl Eq for Page<'_> {}

impl std::fmt::Debug for Page<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:?} ", self.cursor())?;
        f.debug_list().entries(self.iter()).finish()
    }
}

/// What a server answers or pushes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reply<'a> {
    /// To a hello.
    Welcome(Welcome<'a>),
    /// To an open: the frame's namespace is the number to use from now on.
    Opened {
        /// Whether entries may be read.
        read: bool,
        /// Whether entries may be stored and deleted.
        write: bool,
        /// The largest value.
        largest_value: u64,
    },
    /// To a ping.
    Pong,
    /// Pushed: no new requests are taken; what is in flight is answered, then the server closes.
    Goodbye,
    /// Pushed to watchers: the entry of this key is no longer what it was.
    InvalidatedKey {
        /// The key.
        key: &'a str,
    },
    /// Pushed to watchers: no entry with this tag is what it was.
    InvalidatedTag {
        /// The tag.
        tag: &'a str,
    },
    /// Pushed to watchers: no entry of the namespace is what it was.
    InvalidatedAll,
    /// To a look-up that found something.
    Value(Value<'a>),
    /// To a look-up or a change of lifetime that found nothing.
    Miss,
    /// To what needs no more than that it was done.
    Done {
        /// Whether there was an entry before: it was replaced, deleted or changed.
        was_there: bool,
        /// To a put that asked for it: the revision of the entry that it stored.
        revision: Option<u64>,
    },
    /// To a batch: one reply for each operation, in their order.
    Batch(BatchReplies<'a>),
    /// To a listing.
    Page(Page<'a>),
    /// To an addition.
    Counted {
        /// The counter's number now.
        value: i64,
        /// Whether this addition created it.
        created: bool,
    },
    /// To an acquiring of a rate limit that was allowed.
    RateAcquired {
        /// How much may still be acquired at once.
        left: u64,
    },
    /// To one that was not: nothing was acquired.
    Later {
        /// Milliseconds after which it is worth asking again.
        retry_after: u64,
    },
    /// To a lock or a renewal: the lease is the caller's.
    Granted {
        /// Its fencing token.
        token: u64,
        /// Milliseconds until it ends unless it is renewed.
        ends_in: u64,
    },
    /// To a lock or a look: somebody holds it.
    Held {
        /// The lease's fencing token.
        token: u64,
        /// Milliseconds until it ends unless it is renewed.
        ends_in: u64,
        /// How many callers are in line.
        waiting: u32,
        /// Who holds it.
        owner: &'a str,
    },
    /// To an ask: the caller is to refill, and to store the value with this permit.
    Permit {
        /// The permit's number.
        permit: u64,
        /// Milliseconds until it expires.
        ends_in: u64,
    },
    /// To a request that was refused or failed.
    Failed {
        /// Why, for programs: the code of a kind of failure.
        code: u16,
        /// Whether it is certain that a write to the origin changed nothing there.
        unchanged: bool,
        /// Why, in words.
        detail: &'a str,
    },
}

/// The replies of a batch, as they stand in its frame: their number, and for each its kind, its
/// flags, the length of its body, and its body.
#[derive(Clone, Copy)]
pub enum BatchReplies<'a> {
    /// Decoded and checked, in the frame's bytes.
    #[doc(hidden)]
    Encoded { count: u16, bytes: &'a [u8] },
    /// To be encoded.
    #[doc(hidden)]
    Listed(&'a [Reply<'a>]),
}

impl<'a> BatchReplies<'a> {
    /// Replies to be sent.
    pub fn of(replies: &'a [Reply<'a>]) -> Self {
        Self::Listed(replies)
    }

    /// The replies in turn.
    pub fn iter(&self) -> impl Iterator<Item = Reply<'a>> + use<'a> {
        let (encoded, listed) = match *self {
            Self::Encoded { bytes, .. } => (bytes, [].as_slice()),
            Self::Listed(replies) => (&[][..], replies),
        };
        let mut reader = Reader(encoded);
        std::iter::from_fn(move || nested(&mut reader).ok()).chain(listed.iter().copied())
    }

    fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let count = reader.u16("number of replies")?;
        let before = reader.0;
        for _ in 0..count {
            nested(reader)?;
        }
        Ok(Self::Encoded { count, bytes: &before[..before.len() - reader.0.len()] })
    }

    fn write(&self, out: &mut Vec<u8>) {
        let count = match self {
            Self::Encoded { count, .. } => *count,
            Self::Listed(replies) => replies.len() as u16,
        };
        out.extend_from_slice(&count.to_le_bytes());
        for reply in self.iter() {
            out.extend_from_slice(&[reply.kind(), reply.flags()]);
            let start = out.len();
            out.extend_from_slice(&[0; 4]);
            reply.write_body(out);
            let length = (out.len() - start - 4) as u32;
            out[start..start + 4].copy_from_slice(&length.to_le_bytes());
        }
    }
}

fn nested<'a>(reader: &mut Reader<'a>) -> Result<Reply<'a>, WireError> {
    let (kind, flags) = (reader.u8("reply")?, reader.u8("reply")?);
    if !matches!(kind, VALUE | MISS | DONE | FAILED) {
        return Err(WireError::Kind(kind));
    }
    let length = reader.u32("reply")?;
    let body = reader.take(length as usize, "reply")?;
    Reply::decode(Head { kind, flags, namespace: 0, id: 0 }, body)
}

impl PartialEq for BatchReplies<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.iter().eq(other.iter())
    }
}

impl Eq for BatchReplies<'_> {}

impl std::fmt::Debug for BatchReplies<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

const UNCHANGED: u8 = 0b01;
const READ: u8 = 0b01;
const WRITE: u8 = 0b10;
const WAS_THERE: u8 = 0b01;
const DETAILS: u8 = 0b01;
const REVISION: u8 = 0b10;
const KEY: u8 = 0;
const TAG: u8 = 1;
const ALL: u8 = 2;

impl<'a> Reply<'a> {
    /// [`Reply::Done`] without a revision.
    pub const fn done(was_there: bool) -> Self {
        Self::Done { was_there, revision: None }
    }

    /// Reads a reply from its frame.
    ///
    /// # Errors
    /// [`WireError`] for everything that is not exactly one reply.
    pub fn decode(head: Head, body: &'a [u8]) -> Result<Self, WireError> {
        let Head { kind, flags, .. } = head;
        let wrong = WireError::Flags { kind, flags };
        let most = match kind {
            OPENED => READ | WRITE,
            INVALIDATED => ALL,
            VALUE => DETAILS | REVISION,
            DONE => WAS_THERE | REVISION,
            COUNTED | FAILED => 1,
            _ => 0,
        };
        if flags > most {
            return Err(wrong);
        }
        let mut reader = Reader(body);
        let reply = match kind {
            WELCOME => Reply::Welcome(Welcome {
                version: reader.u16("version")?,
                largest_body: reader.u32("largest body")?,
                most_in_flight: reader.u32("most in flight")?,
                idle_timeout: reader.u32("idle timeout")?,
                topology: reader.u64("topology")?,
                nodes: Nodes::read(&mut reader)?,
            }),
            OPENED => Reply::Opened {
                read: flags & READ != 0,
                write: flags & WRITE != 0,
                largest_value: reader.u64("largest value")?,
            },
            PONG => Reply::Pong,
            GOODBYE => Reply::Goodbye,
            INVALIDATED => match flags {
                KEY => Reply::InvalidatedKey { key: reader.rest_text("key")? },
                TAG => Reply::InvalidatedTag { tag: reader.rest_text("tag")? },
                _ => Reply::InvalidatedAll,
            },
            VALUE => Reply::Value(Value::read(flags, &mut reader)?),
            MISS => Reply::Miss,
            DONE => Reply::Done {
                was_there: flags & WAS_THERE != 0,
                revision: (flags & REVISION != 0).then(|| reader.u64("revision")).transpose()?,
            },
            BATCH => Reply::Batch(BatchReplies::read(&mut reader)?),
            PAGE => Reply::Page(Page::read(&mut reader)?),
            COUNTED => Reply::Counted { value: reader.i64("number")?, created: flags == 1 },
            RATE_ACQUIRED => Reply::RateAcquired { left: reader.u64("amount left")? },
            GRANTED => {
                Reply::Granted { token: reader.u64("fencing token")?, ends_in: reader.u64("time")? }
            }
            HELD => Reply::Held {
                token: reader.u64("fencing token")?,
                ends_in: reader.u64("time")?,
                waiting: reader.u32("number in line")?,
                owner: reader.rest_text("owner")?,
            },
            PERMIT => Reply::Permit { permit: reader.u64("permit")?, ends_in: reader.u64("time")? },
            LATER => Reply::Later { retry_after: reader.u64("time")? },
            FAILED => {
                let unchanged = flags & UNCHANGED != 0;
                Reply::Failed {
                    code: reader.u16("code")?,
                    unchanged,
                    detail: reader.rest_text("detail")?,
                }
            }
            other => return Err(WireError::Kind(other)),
        };
        reader.end()?;
        Ok(reply)
    }

    fn kind(&self) -> u8 {
        match self {
            Reply::Welcome(_) => WELCOME,
            Reply::Opened { .. } => OPENED,
            Reply::Pong => PONG,
            Reply::Goodbye => GOODBYE,
            Reply::InvalidatedKey { .. } | Reply::InvalidatedTag { .. } | Reply::InvalidatedAll => {
                INVALIDATED
            }
            Reply::Value(_) => VALUE,
            Reply::Miss => MISS,
            Reply::Done { .. } => DONE,
            Reply::Batch(_) => BATCH,
            Reply::Page(_) => PAGE,
            Reply::Counted { .. } => COUNTED,
            Reply::RateAcquired { .. } => RATE_ACQUIRED,
            Reply::Later { .. } => LATER,
            Reply::Granted { .. } => GRANTED,
            Reply::Held { .. } => HELD,
            Reply::Permit { .. } => PERMIT,
            Reply::Failed { .. } => FAILED,
        }
    }

    fn flags(&self) -> u8 {
        match self {
            Reply::Opened { read, write, .. } => {
                (u8::from(*read) * READ) | (u8::from(*write) * WRITE)
            }
            Reply::InvalidatedTag { .. } => TAG,
            Reply::InvalidatedAll => ALL,
            Reply::Value(value) => value.flags(),
            Reply::Done { was_there, revision } => {
                (u8::from(*was_there) * WAS_THERE) | (u8::from(revision.is_some()) * REVISION)
            }
            Reply::Counted { created, .. } => u8::from(*created),
            Reply::Failed { unchanged, .. } => u8::from(*unchanged) * UNCHANGED,
            _ => 0,
        }
    }

    fn write_body(&self, out: &mut Vec<u8>) {
        match self {
            Reply::Pong | Reply::Goodbye | Reply::Miss | Reply::InvalidatedAll => {}
            Reply::Done { revision, .. } => {
                if let Some(revision) = revision {
                    out.extend_from_slice(&revision.to_le_bytes());
                }
            }
            Reply::Welcome(welcome) => {
                out.extend_from_slice(&welcome.version.to_le_bytes());
                out.extend_from_slice(&welcome.largest_body.to_le_bytes());
                out.extend_from_slice(&welcome.most_in_flight.to_le_bytes());
                out.extend_from_slice(&welcome.idle_timeout.to_le_bytes());
                out.extend_from_slice(&welcome.topology.to_le_bytes());
                welcome.nodes.write(out);
            }
            Reply::Opened { largest_value: number, .. }
            | Reply::RateAcquired { left: number }
            | Reply::Later { retry_after: number } => out.extend_from_slice(&number.to_le_bytes()),
            Reply::InvalidatedKey { key: text } | Reply::InvalidatedTag { tag: text } => {
                out.extend_from_slice(text.as_bytes());
            }
            Reply::Granted { token: number, ends_in }
            | Reply::Permit { permit: number, ends_in } => {
                out.extend_from_slice(&number.to_le_bytes());
                out.extend_from_slice(&ends_in.to_le_bytes());
            }
            Reply::Held { token, ends_in, waiting, owner } => {
                out.extend_from_slice(&token.to_le_bytes());
                out.extend_from_slice(&ends_in.to_le_bytes());
                out.extend_from_slice(&waiting.to_le_bytes());
                out.extend_from_slice(owner.as_bytes());
            }
            Reply::Value(value) => {
                value.write_before_value(out);
                out.extend_from_slice(value.value);
            }
            Reply::Batch(replies) => replies.write(out),
            Reply::Page(page) => page.write(out),
            Reply::Counted { value, .. } => out.extend_from_slice(&value.to_le_bytes()),
            Reply::Failed { code, detail, .. } => {
                out.extend_from_slice(&code.to_le_bytes());
                out.extend_from_slice(detail.as_bytes());
            }
        }
    }

    /// Appends the reply as a frame.
    pub fn encode(&self, frame: Frame, out: &mut Vec<u8>) {
        frame::write(out, frame, self.kind(), self.flags(), |out| self.write_body(out));
    }
}
