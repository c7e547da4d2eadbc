//! Frames: a header of twelve bytes, and a body.
//!
//! | bytes | field |
//! |---|---|
//! | 0–3 | length of the body, in bytes |
//! | 4 | kind |
//! | 5 | flags, whose meaning depends on the kind |
//! | 6–7 | number of the opened namespace; 0 when the frame is about none |
//! | 8–11 | id of the request that this is or answers; 0 for what the server pushes |
//!
//! Numbers are little-endian.

use crate::error::WireError;

/// The size of a header, in bytes.
pub const HEAD: usize = 12;

/// The kind of a get.
const GET: u8 = 0x10;

/// The addressing of a frame, filled in by its sender.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Frame {
    /// The number of the opened namespace; 0 for none.
    pub namespace: u16,
    /// The id of the request.
    pub id: u32,
}

/// The header of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Head {
    /// The kind.
    pub kind: u8,
    /// The flags.
    pub flags: u8,
    /// The number of the opened namespace.
    pub namespace: u16,
    /// The id of the request.
    pub id: u32,
}

impl Head {
    /// Whether it is a get, the one request that is never slow.
    pub fn is_get(&self) -> bool {
        self.kind == GET
    }
}

/// A frame whose body has not been decoded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RawFrame<'a> {
    /// The header.
    pub head: Head,
    /// The body.
    pub body: &'a [u8],
}

/// The first frame of `bytes` and its size, or `None` if it is incomplete.
///
/// # Errors
/// [`WireError::TooLarge`] as soon as the header is complete, before waiting for or allocating a
/// body larger than `limit`.
pub fn next_frame(bytes: &[u8], limit: u32) -> Result<Option<(RawFrame<'_>, usize)>, WireError> {
    let Some(head) = bytes.first_chunk::<HEAD>() else { return Ok(None) };
    let [l0, l1, l2, l3, kind, flags, n0, n1, i0, i1, i2, i3] = *head;
    let length = u32::from_le_bytes([l0, l1, l2, l3]);
    if length > limit {
        return Err(WireError::TooLarge { length, limit });
    }
    let end = HEAD + length as usize;
    let Some(body) = bytes.get(HEAD..end) else { return Ok(None) };
    let namespace = u16::from_le_bytes([n0, n1]);
    let id = u32::from_le_bytes([i0, i1, i2, i3]);
    Ok(Some((RawFrame { head: Head { kind, flags, namespace, id }, body }, end)))
}

/// How many bytes the first frame of `bytes` lacks; 0 if it is complete, or its header is not.
/// [`next_frame`] has checked its length.
pub fn missing(bytes: &[u8]) -> usize {
    match bytes.first_chunk::<4>() {
        Some(length) if bytes.len() >= HEAD => {
            (HEAD + u32::from_le_bytes(*length) as usize).saturating_sub(bytes.len())
        }
        _ => 0,
    }
}

/// The addressing of the first frame of `bytes`, whose header must be complete.
pub fn about(bytes: &[u8]) -> Frame {
    match bytes.first_chunk::<HEAD>() {
        Some([.., n0, n1, i0, i1, i2, i3]) => Frame {
            namespace: u16::from_le_bytes([*n0, *n1]),
            id: u32::from_le_bytes([*i0, *i1, *i2, *i3]),
        },
        None => Frame::default(),
    }
}

/// Writes a frame whose body `fill` appends.
pub(crate) fn write(
    out: &mut Vec<u8>,
    frame: Frame,
    kind: u8,
    flags: u8,
    fill: impl FnOnce(&mut Vec<u8>),
) {
    let start = begin(out, frame, kind, flags);
    fill(out);
    finish(out, start, 0);
}

/// Writes a header whose length is not known yet; returns its position.
pub(crate) fn begin(out: &mut Vec<u8>, frame: Frame, kind: u8, flags: u8) -> usize {
    let start = out.len();
    let mut head = [0; HEAD];
    (head[4], head[5]) = (kind, flags);
    head[6..8].copy_from_slice(&frame.namespace.to_le_bytes());
    head[8..].copy_from_slice(&frame.id.to_le_bytes());
    out.extend_from_slice(&head);
    start
}

/// Fills in the length of the frame at `start`; `more` bytes of its body follow separately.
pub(crate) fn finish(out: &mut [u8], start: usize, more: usize) {
    let length = (out.len() - start - HEAD + more) as u32;
    out[start..start + 4].copy_from_slice(&length.to_le_bytes());
}
