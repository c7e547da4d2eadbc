//! What clients send.

use crate::bytes::{Reader, put_long_text, put_short_text};
use crate::error::WireError;
use crate::frame::{self, Frame, Head};
use crate::parts::{Lifetime, Put, PutCondition, Rate, key};
use crate::{MAGIC, MAX_BATCH_OPERATIONS, MAX_TAG_BYTES};

pub(crate) const HELLO: u8 = 0x01;
const OPEN: u8 = 0x02;
const PING: u8 = 0x03;
const GOODBYE: u8 = 0x04;
const WATCH: u8 = 0x05;
pub(crate) const GET: u8 = 0x10;
pub(crate) const PUT: u8 = 0x11;
pub(crate) const DELETE: u8 = 0x12;
const SET_LIFETIME: u8 = 0x13;
const BATCH: u8 = 0x14;
const LIST: u8 = 0x15;
const INVALIDATE_TAG: u8 = 0x16;
const ADD: u8 = 0x17;
const ACQUIRE_RATE: u8 = 0x18;

const LOCK: u8 = 0x20;
const RENEW: u8 = 0x21;
const RELEASE: u8 = 0x22;
const LOOK: u8 = 0x23;
const ASK: u8 = 0x28;
const PUT_WITH_PERMIT: u8 = 0x29;
const GIVE_BACK: u8 = 0x2a;

/// The first frame of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hello<'a> {
    /// The lowest version that the client speaks.
    pub lowest: u16,
    /// The highest version that the client speaks.
    pub highest: u16,
    /// The token; everything the connection may do follows from it.
    pub token: &'a str,
    /// What the client is, for the log.
    pub client: &'a str,
}

/// How a look-up is to be answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct GetFlags {
    /// Answer from the cache or not at all.
    pub only_if_cached: bool,
    /// Read the origin anew.
    pub refresh: bool,
    /// Tell all about the entry: media type, age, entity tag and tags.
    pub details: bool,
    /// Tell when it is time to refresh the entry early; the caller can refill it.
    pub may_refill: bool,
    /// Tell the revision of the entry.
    pub revision: bool,
}

impl GetFlags {
    fn bits(self) -> u8 {
        u8::from(self.only_if_cached)
            | u8::from(self.refresh) << 1
            | u8::from(self.details) << 2
            | u8::from(self.may_refill) << 3
            | u8::from(self.revision) << 4
    }

    fn of(bits: u8) -> Result<Self, WireError> {
        if bits & !0b1_1111 != 0 {
            return Err(WireError::Flags { kind: GET, flags: bits });
        }
        let bit = |n: u8| bits & (1 << n) != 0;
        Ok(Self {
            only_if_cached: bit(0),
            refresh: bit(1),
            details: bit(2),
            may_refill: bit(3),
            revision: bit(4),
        })
    }
}

/// How a caller that refills by itself is to be answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AskFlags {
    /// A stale copy will do while another caller refills.
    pub stale: bool,
    /// Tell all about the entry.
    pub details: bool,
    /// The permit is wanted although a fresh copy may be there, or the word that there is no value.
    pub refresh: bool,
}

impl AskFlags {
    fn bits(self) -> u8 {
        u8::from(self.stale) | u8::from(self.details) << 1 | u8::from(self.refresh) << 2
    }

    fn of(bits: u8) -> Result<Self, WireError> {
        let bit = |n: u8| bits & (1 << n) != 0;
        match bits {
            0..=0b111 => Ok(Self { stale: bit(0), details: bit(1), refresh: bit(2) }),
            _ => Err(WireError::Flags { kind: ASK, flags: bits }),
        }
    }
}

/// What a client asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Request<'a> {
    /// Opens the conversation.
    Hello(Hello<'a>),
    /// Opens a namespace under a number of its own, with which later requests name it.
    Open {
        /// The tenant's name.
        tenant: &'a str,
        /// The namespace's name.
        namespace: &'a str,
    },
    /// Asks for a sign of life.
    Ping,
    /// Says that nothing more will be asked.
    Goodbye,
    /// Asks to be told what becomes untrue in the namespace, for near copies.
    Watch,
    /// Looks an entry up.
    Get {
        /// Its key.
        key: &'a str,
        /// How.
        flags: GetFlags,
    },
    /// Stores a value.
    Put(Put<'a>),
    /// Deletes an entry.
    Delete {
        /// Its key.
        key: &'a str,
    },
    /// Gives an entry another lifetime, counted from now.
    SetLifetime {
        /// Its key.
        key: &'a str,
        /// The lifetime; `None` for the namespace's.
        lifetime: Option<Lifetime>,
    },
    /// Several look-ups, puts and deletes.
    Batch(BatchOperations<'a>),
    /// Lists entries.
    List {
        /// Only keys that start with this.
        prefix: &'a str,
        /// Where to go on, from the page before; empty for the first.
        cursor: &'a str,
        /// The most entries on the page.
        most: u16,
    },
    /// Ends every entry that carries a tag.
    InvalidateTag {
        /// The tag.
        tag: &'a str,
    },
    /// Adds to a counter.
    Add {
        /// Its key.
        key: &'a str,
        /// What to add.
        amount: i64,
        /// The lifetime of a counter that this creates; `None` for the namespace's.
        lifetime: Option<Lifetime>,
    },
    /// Acquires from a rate limit.
    AcquireRate {
        /// Its key.
        key: &'a str,
        /// How much.
        amount: u64,
        /// How fast it comes back.
        rate: Rate,
    },
    /// Asks for a lock.
    Lock {
        /// Its name.
        name: &'a str,
        /// Who asks, in words for people.
        owner: &'a str,
        /// How long the lease lasts unless it is renewed, in milliseconds.
        lease: u64,
        /// How long to wait for it, in milliseconds.
        wait: u64,
        /// Whether the lease ends with the connection.
        ends_with_connection: bool,
    },
    /// Makes a lease last longer, counted from now.
    Renew {
        /// The lock's name.
        name: &'a str,
        /// The lease's fencing token.
        token: u64,
        /// How long it lasts from now on, in milliseconds.
        lease: u64,
    },
    /// Ends a lease.
    Release {
        /// The lock's name.
        name: &'a str,
        /// The lease's fencing token.
        token: u64,
    },
    /// Looks at a lock without touching it.
    Look {
        /// The lock's name.
        name: &'a str,
    },
    /// Asks for a value, or for the right to refill it.
    Ask {
        /// Its key.
        key: &'a str,
        /// How.
        flags: AskFlags,
        /// Who asks, in words for people.
        owner: &'a str,
        /// How long the permit lasts, in milliseconds.
        lease: u64,
        /// How long to wait while another caller refills, in milliseconds.
        wait: u64,
    },
    /// Stores the value that a permit was given for.
    PutWithPermit {
        /// The permit's number.
        permit: u64,
        /// The value, without a condition of its own.
        put: Put<'a>,
    },
    /// Gives a permit back without a value.
    GiveBack {
        /// Its key.
        key: &'a str,
        /// The permit's number.
        permit: u64,
        /// Whether all who wait are told that it failed; else the first of them may refill.
        fail_all: bool,
    },
}

/// The operations of a batch, as they stand in its frame: their number, and for each its kind, its
/// flags, the length of its body, and its body.
#[derive(Clone, Copy)]
pub enum BatchOperations<'a> {
    /// Decoded and checked, in the frame's bytes.
    #[doc(hidden)]
    Encoded { count: u16, bytes: &'a [u8] },
    /// To be encoded.
    #[doc(hidden)]
    Listed(&'a [Request<'a>]),
}

impl<'a> BatchOperations<'a> {
    /// Operations to be sent: look-ups, puts and deletes.
    pub fn of(operations: &'a [Request<'a>]) -> Self {
        Self::Listed(operations)
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        match self {
            Self::Encoded { count, .. } => usize::from(*count),
            Self::Listed(operations) => operations.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The operations in turn.
    pub fn iter(&self) -> impl Iterator<Item = Request<'a>> + use<'a> {
        let (encoded, listed) = match *self {
            Self::Encoded { bytes, .. } => (bytes, [].as_slice()),
            Self::Listed(operations) => (&[][..], operations),
        };
        let mut reader = Reader(encoded);
        // They were checked when the frame was decoded.
        std::iter::from_fn(move || operation(&mut reader).ok()).chain(listed.iter().copied())
    }

    fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let count = reader.u16("number of operations")?;
        if usize::from(count) > MAX_BATCH_OPERATIONS {
            return Err(WireError::Range("number of operations"));
        }
        let before = reader.0;
        for _ in 0..count {
            operation(reader)?;
        }
        Ok(Self::Encoded { count, bytes: &before[..before.len() - reader.0.len()] })
    }

    fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&(self.len() as u16).to_le_bytes());
        for operation in self.iter() {
            out.extend_from_slice(&[operation.kind(), operation.flags()]);
            let start = out.len();
            out.extend_from_slice(&[0; 4]);
            operation.write_body(out);
            let length = (out.len() - start - 4) as u32;
            out[start..start + 4].copy_from_slice(&length.to_le_bytes());
        }
    }
}

fn operation<'a>(reader: &mut Reader<'a>) -> Result<Request<'a>, WireError> {
    let (kind, flags) = (reader.u8("operation")?, reader.u8("operation")?);
    if !matches!(kind, GET | PUT | DELETE) {
        return Err(WireError::Kind(kind));
    }
    let length = reader.u32("operation")?;
    let body = reader.take(length as usize, "operation")?;
    Request::decode(Head { kind, flags, namespace: 0, id: 0 }, body)
}

impl PartialEq for BatchOperations<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.iter().eq(other.iter())
    }
}

impl Eq for BatchOperations<'_> {}

impl std::fmt::Debug for BatchOperations<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

fn lifetime_if(
    (kind, flags): (u8, u8),
    reader: &mut Reader<'_>,
) -> Result<Option<Lifetime>, WireError> {
    match flags {
        0 => Ok(None),
        1 => Lifetime::read(reader).map(Some),
        _ => Err(WireError::Flags { kind, flags }),
    }
}

fn one_flag(kind: u8, flags: u8) -> Result<bool, WireError> {
    match flags {
        0 | 1 => Ok(flags == 1),
        _ => Err(WireError::Flags { kind, flags }),
    }
}

impl<'a> Request<'a> {
    /// Reads a request from its frame.
    ///
    /// # Errors
    /// [`WireError`] for everything that is not exactly one request.
    pub fn decode(head: Head, body: &'a [u8]) -> Result<Self, WireError> {
        let Head { kind, flags, .. } = head;
        let mut reader = Reader(body);
        if flags != 0
            && !matches!(
                kind,
                GET | PUT | SET_LIFETIME | ADD | LOCK | ASK | PUT_WITH_PERMIT | GIVE_BACK
            )
        {
            return Err(WireError::Flags { kind, flags });
        }
        let request = match kind {
            HELLO => {
                if reader.take(4, "mark")? != MAGIC {
                    return Err(WireError::Magic);
                }
                Request::Hello(Hello {
                    lowest: reader.u16("version")?,
                    highest: reader.u16("version")?,
                    token: reader.long_text("token")?,
                    client: reader.short_text("client")?,
                })
            }
            OPEN => Request::Open {
                tenant: reader.short_text("tenant")?,
                namespace: reader.short_text("namespace")?,
            },
            PING => Request::Ping,
            GOODBYE => Request::Goodbye,
            WATCH => Request::Watch,
            GET => {
                Request::Get { flags: GetFlags::of(flags)?, key: key(reader.rest_text("key")?)? }
            }
            PUT => Request::Put(Put::read(kind, flags, &mut reader)?),
            DELETE => Request::Delete { key: key(reader.rest_text("key")?)? },
            SET_LIFETIME => Request::SetLifetime {
                lifetime: lifetime_if((kind, flags), &mut reader)?,
                key: key(reader.rest_text("key")?)?,
            },
            BATCH => Request::Batch(BatchOperations::read(&mut reader)?),
            LIST => Request::List {
                most: reader.u16("size of the page")?,
                cursor: reader.short_text("cursor")?,
                prefix: reader.rest_text("prefix")?,
            },
            INVALIDATE_TAG => match reader.rest_text("tag")? {
                tag if (1..=MAX_TAG_BYTES).contains(&tag.len()) => Request::InvalidateTag { tag },
                _ => return Err(WireError::Range("tag")),
            },
            ADD => Request::Add {
                amount: reader.i64("amount")?,
                lifetime: lifetime_if((kind, flags), &mut reader)?,
                key: key(reader.rest_text("key")?)?,
            },
            ACQUIRE_RATE => Request::AcquireRate {
                amount: reader.u64("amount")?,
                rate: Rate {
                    count: reader.u64("rate")?,
                    period: reader.u64("period")?,
                    burst: reader.u64("burst")?,
                },
                key: key(reader.rest_text("key")?)?,
            },
            LOCK => Request::Lock {
                ends_with_connection: one_flag(kind, flags)?,
                lease: reader.u64("lease")?,
                wait: reader.u64("wait")?,
                owner: reader.short_text("owner")?,
                name: key(reader.rest_text("name")?)?,
            },
            RENEW => Request::Renew {
                token: reader.u64("fencing token")?,
                lease: reader.u64("lease")?,
                name: key(reader.rest_text("name")?)?,
            },
            RELEASE => Request::Release {
                token: reader.u64("fencing token")?,
                name: key(reader.rest_text("name")?)?,
            },
            LOOK => Request::Look { name: key(reader.rest_text("name")?)? },
            ASK => Request::Ask {
                flags: AskFlags::of(flags)?,
                lease: reader.u64("lease")?,
                wait: reader.u64("wait")?,
                owner: reader.short_text("owner")?,
                key: key(reader.rest_text("key")?)?,
            },
            PUT_WITH_PERMIT => {
                let permit = reader.u64("permit")?;
                let put = Put::read(kind, flags, &mut reader)?;
                if put.condition != PutCondition::Always {
                    return Err(WireError::Flags { kind, flags });
                }
                Request::PutWithPermit { permit, put }
            }
            GIVE_BACK => Request::GiveBack {
                fail_all: one_flag(kind, flags)?,
                permit: reader.u64("permit")?,
                key: key(reader.rest_text("key")?)?,
            },
            other => return Err(WireError::Kind(other)),
        };
        reader.end()?;
        Ok(request)
    }

    fn kind(&self) -> u8 {
        match self {
            Request::Hello(_) => HELLO,
            Request::Open { .. } => OPEN,
            Request::Ping => PING,
            Request::Goodbye => GOODBYE,
            Request::Watch => WATCH,
            Request::Get { .. } => GET,
            Request::Put(_) => PUT,
            Request::Delete { .. } => DELETE,
            Request::SetLifetime { .. } => SET_LIFETIME,
            Request::Batch(_) => BATCH,
            Request::List { .. } => LIST,
            Request::InvalidateTag { .. } => INVALIDATE_TAG,
            Request::Add { .. } => ADD,
            Request::AcquireRate { .. } => ACQUIRE_RATE,
            Request::Lock { .. } => LOCK,
            Request::Renew { .. } => RENEW,
            Request::Release { .. } => RELEASE,
            Request::Look { .. } => LOOK,
            Request::Ask { .. } => ASK,
            Request::PutWithPermit { .. } => PUT_WITH_PERMIT,
            Request::GiveBack { .. } => GIVE_BACK,
        }
    }

    fn flags(&self) -> u8 {
        match self {
            Request::Get { flags, .. } => flags.bits(),
            Request::Put(put) | Request::PutWithPermit { put, .. } => put.flags(),
            Request::Lock { ends_with_connection: flag, .. }
            | Request::GiveBack { fail_all: flag, .. } => u8::from(*flag),
            Request::Ask { flags, .. } => flags.bits(),
            Request::SetLifetime { lifetime, .. } | Request::Add { lifetime, .. } => {
                u8::from(lifetime.is_some())
            }
            _ => 0,
        }
    }

    fn write_body(&self, out: &mut Vec<u8>) {
        match self {
            Request::Ping | Request::Goodbye | Request::Watch => {}
            Request::Hello(hello) => {
                out.extend_from_slice(&MAGIC);
                out.extend_from_slice(&hello.lowest.to_le_bytes());
                out.extend_from_slice(&hello.highest.to_le_bytes());
                put_long_text(out, hello.token);
                put_short_text(out, hello.client);
            }
            Request::Open { tenant, namespace } => {
                put_short_text(out, tenant);
                put_short_text(out, namespace);
            }
            Request::Get { key, .. } | Request::Delete { key } => {
                out.extend_from_slice(key.as_bytes());
            }
            Request::Put(put) => put.write(out),
            Request::SetLifetime { key, lifetime } => {
                if let Some(lifetime) = lifetime {
                    lifetime.write(out);
                }
                out.extend_from_slice(key.as_bytes());
            }
            Request::Batch(operations) => operations.write(out),
            Request::List { prefix, cursor, most } => {
                out.extend_from_slice(&most.to_le_bytes());
                put_short_text(out, cursor);
                out.extend_from_slice(prefix.as_bytes());
            }
            Request::Lock { name: rest, owner, lease, wait, .. }
            | Request::Ask { key: rest, owner, lease, wait, .. } => {
                out.extend_from_slice(&lease.to_le_bytes());
                out.extend_from_slice(&wait.to_le_bytes());
                put_short_text(out, owner);
                out.extend_from_slice(rest.as_bytes());
            }
            Request::Renew { name, token, lease } => {
                out.extend_from_slice(&token.to_le_bytes());
                out.extend_from_slice(&lease.to_le_bytes());
                out.extend_from_slice(name.as_bytes());
            }
            Request::Release { name: rest, token: number }
            | Request::GiveBack { key: rest, permit: number, .. } => {
                out.extend_from_slice(&number.to_le_bytes());
                out.extend_from_slice(rest.as_bytes());
            }
            Request::PutWithPermit { permit, put } => {
                out.extend_from_slice(&permit.to_le_bytes());
                put.write(out);
            }
            Request::Look { name: text } | Request::InvalidateTag { tag: text } => {
                out.extend_from_slice(text.as_bytes());
            }
            Request::Add { key, amount, lifetime } => {
                out.extend_from_slice(&amount.to_le_bytes());
                if let Some(lifetime) = lifetime {
                    lifetime.write(out);
                }
                out.extend_from_slice(key.as_bytes());
            }
            Request::AcquireRate { key, amount, rate } => {
                for number in [*amount, rate.count, rate.period, rate.burst] {
                    out.extend_from_slice(&number.to_le_bytes());
                }
                out.extend_from_slice(key.as_bytes());
            }
        }
    }

    /// Appends the request as a frame.
    pub fn encode(&self, frame: Frame, out: &mut Vec<u8>) {
        frame::write(out, frame, self.kind(), self.flags(), |out| self.write_body(out));
    }
}
