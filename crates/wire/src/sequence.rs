//! Sequences: a count, and that many elements. Decoding checks every element and copies none.

use std::marker::PhantomData;

use crate::bytes::Reader;
use crate::error::WireError;
use crate::field::{Field, Flags};

/// How the elements of a [`Sequence`] are read and written.
#[doc(hidden)]
pub trait Element<'a, T>: 'static {
    /// How the documents write one element.
    const SHAPE: &'static str;

    /// The name of the count in errors.
    const COUNT: &'static str;

    /// The maximum number of elements.
    const MAX: usize;

    /// Whether the count takes two bytes instead of one.
    const WIDE: bool = true;

    #[doc(hidden)]
    fn read(body: &mut &'a [u8]) -> Result<T, WireError>;

    #[doc(hidden)]
    fn write(item: &T, out: &mut Vec<u8>);
}

/// Elements of a frame: either checked in its bytes, or listed for encoding. `E` is their encoding.
pub struct Sequence<'a, T, E> {
    items: Items<'a, T>,
    element: PhantomData<E>,
}

enum Items<'a, T> {
    Encoded { count: u16, bytes: &'a [u8] },
    Listed(&'a [T]),
}

impl<T, E> Clone for Sequence<'_, T, E> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T, E> Copy for Sequence<'_, T, E> {}

impl<T> Clone for Items<'_, T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Items<'_, T> {}

impl<'a, T, E> Sequence<'a, T, E> {
    /// No elements.
    pub const NONE: Self = Self { items: Items::Listed(&[]), element: PhantomData };

    /// Elements to send.
    pub const fn of(items: &'a [T]) -> Self {
        Self { items: Items::Listed(items), element: PhantomData }
    }

    /// The number of elements.
    pub fn len(&self) -> usize {
        match self.items {
            Items::Encoded { count, .. } => usize::from(count),
            Items::Listed(items) => items.len(),
        }
    }

    /// Whether it is empty.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl<'a, T: Copy, E: Element<'a, T>> Sequence<'a, T, E> {
    /// Iterates over the elements.
    pub fn iter(&self) -> impl Iterator<Item = T> + use<'a, T, E> {
        let (mut encoded, listed): (&'a [u8], &'a [T]) = match self.items {
            Items::Encoded { bytes, .. } => (bytes, &[]),
            Items::Listed(items) => (&[], items),
        };
        // Decoding the frame has checked them; no element has zero bytes.
        let encoded = std::iter::from_fn(move || match encoded {
            [] => None,
            _ => E::read(&mut encoded).ok(),
        });
        encoded.chain(listed.iter().copied())
    }
}

impl<'a, T: Copy, E: Element<'a, T>> Field<'a> for Sequence<'a, T, E> {
    type Value = Self;
    const SHAPE: &'static str = E::SHAPE;

    fn read(_: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        let count = if E::WIDE { body.u16(E::COUNT)? } else { body.u8(E::COUNT)?.into() };
        if usize::from(count) > E::MAX {
            return Err(WireError::Range(E::COUNT));
        }
        let start = body.0;
        for _ in 0..count {
            E::read(&mut body.0)?;
        }
        let bytes = &start[..start.len() - body.0.len()];
        Ok(Self { items: Items::Encoded { count, bytes }, element: PhantomData })
    }

    fn write(value: &Self, out: &mut Vec<u8>) {
        let count = value.len() as u16;
        match E::WIDE {
            true => out.extend_from_slice(&count.to_le_bytes()),
            false => out.push(count as u8),
        }
        value.iter().for_each(|item| E::write(&item, out));
    }
}

impl<'a, T: Copy + PartialEq, E: Element<'a, T>> PartialEq for Sequence<'a, T, E> {
    fn eq(&self, other: &Self) -> bool {
        self.len() == other.len() && self.iter().eq(other.iter())
    }
}

impl<'a, T: Copy + Eq, E: Element<'a, T>> Eq for Sequence<'a, T, E> {}

impl<'a, T: Copy + std::fmt::Debug, E: Element<'a, T>> std::fmt::Debug for Sequence<'a, T, E> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}
