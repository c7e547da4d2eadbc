//! Fields: how one part of a body is read and written. The tables of [`request`](crate::request)
//! and [`reply`](crate::reply) are made of them.

use std::marker::PhantomData;

use crate::bytes::{Reader, put_short_text};
use crate::error::WireError;
use crate::lifetime::Lifetime;
use crate::limits::{MAX_KEY_BYTES, MAX_TAG_BYTES};

/// One flag of a frame: its bit and its name in the documents.
pub type FlagName = (u8, &'static str);

/// A field of a frame. Most fields take bytes of the body, some take flags of the header, and some
/// are there only if a flag says so.
pub(crate) trait Field<'a> {
    type Value;

    /// Its form in the documents; empty for a field of flags only.
    const SHAPE: &'static str;

    /// The flags that belong to it.
    const FLAGS: &'static [FlagName] = &[];

    fn read(
        head: &mut Flags,
        body: &mut Reader<'a>,
        name: &'static str,
    ) -> Result<Self::Value, WireError>;

    fn write(value: &Self::Value, out: &mut Vec<u8>);

    fn flags(_value: &Self::Value) -> u8 {
        0
    }
}

/// The kind and the flags of a frame while its fields are read.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Flags {
    pub(crate) kind: u8,
    pub(crate) bits: u8,
}

impl Flags {
    pub(crate) fn has(self, bit: u8) -> bool {
        self.bits & bit != 0
    }

    /// The error of flags that contradict each other.
    pub(crate) fn error(self) -> WireError {
        WireError::Flags { kind: self.kind, flags: self.bits }
    }

    /// Checks that every flag belongs to some field.
    pub(crate) fn check(self, known: &[&[FlagName]]) -> Result<(), WireError> {
        let mask = known.iter().flat_map(|flags| flags.iter()).fold(0, |mask, (bit, _)| mask | bit);
        if self.bits & !mask == 0 { Ok(()) } else { Err(self.error()) }
    }
}

macro_rules! numbers {
    ($($Field:ident: $type:ident, $shape:literal;)+) => {$(
        #[doc = concat!("A number of type `", stringify!($type), "`, little-endian.")]
        pub(crate) struct $Field;

        impl<'a> Field<'a> for $Field {
            type Value = $type;
            const SHAPE: &'static str = $shape;

            fn read(_: &mut Flags, body: &mut Reader<'a>, name: &'static str) -> Result<$type, WireError> {
                body.$type(name)
            }

            fn write(value: &$type, out: &mut Vec<u8>) {
                out.extend_from_slice(&value.to_le_bytes());
            }
        }
    )+};
}

numbers! {
    U16: u16, "2";
    U32: u32, "4";
    U64: u64, "8";
    U128: u128, "16";
    I64: i64, "8, signed";
}

macro_rules! texts {
    ($($(#[doc = $doc:literal])+ $Field:ident: $shape:literal, $read:expr, $write:expr;)+) => {$(
        $(#[doc = $doc])+
        pub(crate) struct $Field;

        impl<'a> Field<'a> for $Field {
            type Value = &'a str;
            const SHAPE: &'static str = $shape;

            fn read(_: &mut Flags, body: &mut Reader<'a>, name: &'static str) -> Result<&'a str, WireError> {
                let read: fn(&mut Reader<'a>, &'static str) -> Result<&'a str, WireError> = $read;
                read(body, name)
            }

            fn write(value: &&'a str, out: &mut Vec<u8>) {
                let write: fn(&mut Vec<u8>, &str) = $write;
                write(out, value)
            }
        }
    )+};
}

texts! {
    /// A text with a one-byte length prefix.
    ShortText: "short text", Reader::short_text, put_short_text;
    /// The rest of the body.
    Rest: "rest", Reader::rest_text, |out, text| out.extend_from_slice(text.as_bytes());
    /// A key or the name of a lock: the rest of the body, within the limits of keys.
    Key: "rest", |body, name| checked(body.rest_text(name)?, MAX_KEY_BYTES, name),
        |out, text| out.extend_from_slice(text.as_bytes());
    /// A tag: the rest of the body, within the limits of tags.
    Tag: "rest", |body, name| checked(body.rest_text(name)?, MAX_TAG_BYTES, name),
        |out, text| out.extend_from_slice(text.as_bytes());
}

/// Checks that a text has at least one byte and at most `max`.
pub(crate) fn checked<'a>(
    text: &'a str,
    max: usize,
    name: &'static str,
) -> Result<&'a str, WireError> {
    if (1..=max).contains(&text.len()) { Ok(text) } else { Err(WireError::Range(name)) }
}

/// A flag by itself. `BIT` is its place in the header; its name is the field's.
pub(crate) struct Flag<const BIT: u8>;

impl<'a, const BIT: u8> Field<'a> for Flag<BIT> {
    type Value = bool;
    const SHAPE: &'static str = "";
    const FLAGS: &'static [FlagName] = &[(BIT, "")];

    fn read(head: &mut Flags, _: &mut Reader<'a>, _: &'static str) -> Result<bool, WireError> {
        Ok(head.has(BIT))
    }

    fn write(_: &bool, _: &mut Vec<u8>) {}

    fn flags(value: &bool) -> u8 {
        u8::from(*value) * BIT
    }
}

/// A field that is there only if the flag `BIT`, which has the field's name, is set.
pub(crate) struct IfFlag<const BIT: u8, F>(PhantomData<F>);

impl<'a, const BIT: u8, F: Field<'a>> Field<'a> for IfFlag<BIT, F> {
    type Value = Option<F::Value>;
    const SHAPE: &'static str = F::SHAPE;
    const FLAGS: &'static [FlagName] = &[(BIT, "")];

    fn read(
        head: &mut Flags,
        body: &mut Reader<'a>,
        name: &'static str,
    ) -> Result<Self::Value, WireError> {
        head.has(BIT).then(|| F::read(head, body, name)).transpose()
    }

    fn write(value: &Self::Value, out: &mut Vec<u8>) {
        if let Some(value) = value {
            F::write(value, out);
        }
    }

    fn flags(value: &Self::Value) -> u8 {
        u8::from(value.is_some()) * BIT
    }
}

impl<'a> Field<'a> for Lifetime {
    type Value = Self;
    const SHAPE: &'static str = "24";

    fn read(_: &mut Flags, body: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
        Self::read(body)
    }

    fn write(value: &Self, out: &mut Vec<u8>) {
        (*value).write(out);
    }
}

/// Declares a struct of flags that is a field of its own.
macro_rules! flag_set {
    ($(#[doc = $doc:literal])+ $Set:ident {
        $($(#[doc = $flag_doc:literal])+ $flag:ident = $bit:literal, $name:literal;)+
    }) => {
        $(#[doc = $doc])+
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
        pub struct $Set {
            $($(#[doc = $flag_doc])+ pub $flag: bool,)+
        }

        impl<'a> Field<'a> for $Set {
            type Value = Self;
            const SHAPE: &'static str = "";
            const FLAGS: &'static [FlagName] = &[$(($bit, $name)),+];

            fn read(head: &mut Flags, _: &mut Reader<'a>, _: &'static str) -> Result<Self, WireError> {
                Ok(Self { $($flag: head.has($bit)),+ })
            }

            fn write(_: &Self, _: &mut Vec<u8>) {}

            fn flags(set: &Self) -> u8 {
                0 $(| u8::from(set.$flag) * $bit)+
            }
        }
    };
}

pub(crate) use flag_set;
