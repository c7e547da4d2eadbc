//! Compressed values: the LZ4 block format, behind the length of the value.
//!
//! A value is compressed before it is stored and decompressed by each reader, both outside of the
//! store's locks.

use bytes::Bytes;
use lz4_flex::block::{compress_into, decompress, get_maximum_output_size};

/// The bytes of the length.
const LENGTH: usize = size_of::<u32>();

/// Compresses a value; `None` unless that saves at least an eighth of it.
pub(crate) fn pack(value: &[u8]) -> Option<Bytes> {
    let length = u32::try_from(value.len()).ok()?;
    let mut packed = vec![0; LENGTH + get_maximum_output_size(value.len())];
    packed[..LENGTH].copy_from_slice(&length.to_le_bytes());
    let written = compress_into(value, &mut packed[LENGTH..]).ok()?;
    packed.truncate(LENGTH + written);
    (packed.len() <= value.len() / 8 * 7).then(|| packed.into())
}

/// The length of the value that was compressed to this.
pub(super) fn unpacked_length(packed: &[u8]) -> usize {
    let length = packed.first_chunk::<LENGTH>();
    length.map_or(0, |length| u32::from_le_bytes(*length) as usize)
}

/// The value that was compressed to this. What [`pack`] made is never damaged: it stays in this
/// process.
pub(super) fn unpack(packed: &[u8]) -> Bytes {
    let value = decompress(packed.get(LENGTH..).unwrap_or_default(), unpacked_length(packed));
    debug_assert!(value.is_ok(), "what was packed can be unpacked");
    value.unwrap_or_default().into()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn values_survive(part in prop::collection::vec(any::<u8>(), 1..60), times in 0_usize..80) {
            let value = part.repeat(times);
            if let Some(packed) = pack(&value) {
                prop_assert_eq!(unpacked_length(&packed), value.len());
                prop_assert_eq!(unpack(&packed), value.clone());
                prop_assert!(packed.len() <= value.len() / 8 * 7);
            }
            prop_assert!(times < 20 || part.len() < 4 || pack(&value).is_some());
        }
    }

    #[test]
    fn what_saves_too_little_is_not_compressed() {
        let noise: Vec<u8> = (0..2_000_u64)
            .flat_map(|n| (n.wrapping_mul(0x9e37_79b9_7f4a_7c15)).to_le_bytes())
            .collect();
        assert!(pack(&noise).is_none());
        assert!(pack(b"").is_none());
        assert!(pack(&[7; 1_000]).is_some());
    }
}
