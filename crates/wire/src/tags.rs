//! Tags in frames.

use crate::bytes::{Reader, put_short_text};
use crate::error::WireError;
use crate::field::checked;
use crate::limits::{MAX_TAG_BYTES, MAX_TAGS};
use crate::sequence::{Element, Sequence};

/// The tags of an entry.
pub type Tags<'a> = Sequence<'a, &'a str, TagElement>;

#[doc(hidden)]
pub enum TagElement {}

impl<'a> Element<'a, &'a str> for TagElement {
    const SHAPE: &'static str = "tags";
    const COUNT: &'static str = "number of tags";
    const MAX: usize = MAX_TAGS;
    const WIDE: bool = false;

    fn read(body: &mut &'a [u8]) -> Result<&'a str, WireError> {
        let mut reader = Reader(body);
        let tag = checked(reader.short_text("tag")?, MAX_TAG_BYTES, "tag")?;
        *body = reader.0;
        Ok(tag)
    }

    fn write(tag: &&'a str, out: &mut Vec<u8>) {
        put_short_text(out, tag);
    }
}
