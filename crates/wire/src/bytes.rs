//! Reading and writing fields.

use crate::error::WireError;

/// Reads fields from a body, front to back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Reader<'a>(pub(crate) &'a [u8]);

impl<'a> Reader<'a> {
    pub(crate) fn take(
        &mut self,
        length: usize,
        field: &'static str,
    ) -> Result<&'a [u8], WireError> {
        let (taken, rest) = self.0.split_at_checked(length).ok_or(WireError::Short(field))?;
        self.0 = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self, field: &'static str) -> Result<[u8; N], WireError> {
        let (taken, rest) = self.0.split_first_chunk().ok_or(WireError::Short(field))?;
        self.0 = rest;
        Ok(*taken)
    }

    pub(crate) fn u8(&mut self, field: &'static str) -> Result<u8, WireError> {
        self.array(field).map(u8::from_le_bytes)
    }

    pub(crate) fn u16(&mut self, field: &'static str) -> Result<u16, WireError> {
        self.array(field).map(u16::from_le_bytes)
    }

    pub(crate) fn u32(&mut self, field: &'static str) -> Result<u32, WireError> {
        self.array(field).map(u32::from_le_bytes)
    }

    pub(crate) fn u64(&mut self, field: &'static str) -> Result<u64, WireError> {
        self.array(field).map(u64::from_le_bytes)
    }

    pub(crate) fn i64(&mut self, field: &'static str) -> Result<i64, WireError> {
        self.array(field).map(i64::from_le_bytes)
    }

    pub(crate) fn u128(&mut self, field: &'static str) -> Result<u128, WireError> {
        self.array(field).map(u128::from_le_bytes)
    }

    fn text(bytes: &'a [u8], field: &'static str) -> Result<&'a str, WireError> {
        std::str::from_utf8(bytes).map_err(|_| WireError::Text(field))
    }

    /// A text with a one-byte length prefix.
    pub(crate) fn short_text(&mut self, field: &'static str) -> Result<&'a str, WireError> {
        let length = self.u8(field)?;
        Self::text(self.take(length.into(), field)?, field)
    }

    /// A text with a two-byte length prefix.
    pub(crate) fn long_text(&mut self, field: &'static str) -> Result<&'a str, WireError> {
        let length = self.u16(field)?;
        Self::text(self.take(length.into(), field)?, field)
    }

    /// The rest of the body.
    pub(crate) fn rest(&mut self) -> &'a [u8] {
        std::mem::take(&mut self.0)
    }

    /// The rest of the body, as text.
    pub(crate) fn rest_text(&mut self, field: &'static str) -> Result<&'a str, WireError> {
        Self::text(self.rest(), field)
    }

    /// Checks that the body ends here.
    pub(crate) fn end(self) -> Result<(), WireError> {
        match self.0.len() {
            0 => Ok(()),
            left => Err(WireError::Long(left)),
        }
    }
}

/// Writes a text with a one-byte length prefix, cut to fit.
pub(crate) fn put_short_text(out: &mut Vec<u8>, text: &str) {
    let cut = &text[..text.floor_char_boundary(usize::from(u8::MAX))];
    out.push(cut.len() as u8);
    out.extend_from_slice(cut.as_bytes());
}

/// Writes a text with a two-byte length prefix, cut to fit.
pub(crate) fn put_long_text(out: &mut Vec<u8>, text: &str) {
    let cut = &text[..text.floor_char_boundary(usize::from(u16::MAX))];
    out.extend_from_slice(&(cut.len() as u16).to_le_bytes());
    out.extend_from_slice(cut.as_bytes());
}
