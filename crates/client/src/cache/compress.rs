//! Compressed values: gzip (RFC 1952), marked by the suffix `+gzip` of their media type (RFC 8460,
//! section 6.2), so that any reader can recognize it.

use std::borrow::Cow;
use std::io::{Read, Write};

use bytes::Bytes;
use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use verax_core::policy::MAX_VALUE_BYTES;

use crate::error::ClientError;

const SUFFIX: &str = "+gzip";

/// A value and a media type, ready to store.
pub(super) struct Packed<'a> {
    pub(super) value: Cow<'a, [u8]>,
    pub(super) media_type: Cow<'a, str>,
}

/// A media type without its parameters, and these with their semicolon.
fn parts(media_type: &str) -> (&str, &str) {
    media_type.split_at(media_type.find(';').unwrap_or(media_type.len()))
}

/// Compresses a value of at least `from` bytes, if that makes it smaller.
pub(super) fn packed<'a>(value: &'a [u8], media_type: &'a str, from: Option<usize>) -> Packed<'a> {
    let plain = Packed { value: value.into(), media_type: media_type.into() };
    if from.is_none_or(|from| value.len() < from) {
        return plain;
    }
    let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
    let encoded = encoder.write_all(value).and_then(|()| encoder.finish());
    match encoded {
        Ok(smaller) if smaller.len() < value.len() => {
            let (essence, parameters) = parts(media_type);
            let media_type = format!("{}{SUFFIX}{parameters}", essence.trim_end());
            Packed { value: smaller.into(), media_type: media_type.into() }
        }
        _ => plain,
    }
}

/// Reverses [`packed`].
///
/// # Errors
/// [`ClientError::Unreadable`] if it is marked as compressed and is not, or exceeds the maximum
/// size of a value.
pub(super) fn unpacked(key: &str, value: Bytes, media_type: &str) -> Result<Bytes, ClientError> {
    if !parts(media_type).0.trim_end().ends_with(SUFFIX) {
        return Ok(value);
    }
    let unreadable = |reason: String| ClientError::Unreadable { key: key.to_owned(), reason };
    let mut whole = Vec::new();
    let mut decoder = GzDecoder::new(&value[..]).take(MAX_VALUE_BYTES + 1);
    decoder.read_to_end(&mut whole).map_err(|e| unreadable(format!("it is not gzip: {e}")))?;
    match whole.len() as u64 > MAX_VALUE_BYTES {
        true => Err(unreadable(format!("it unpacks to more than {MAX_VALUE_BYTES} bytes"))),
        false => Ok(whole.into()),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    proptest! {
        #[test]
        fn compressed_values_round_trip(value in prop::collection::vec(0u8..4, 0..5_000), from in 0usize..2_000) {
            let packed = packed(&value, "text/plain; charset=utf-8", Some(from));
            prop_assert!(packed.value.len() <= value.len());
            let bytes = Bytes::copy_from_slice(&packed.value);
            prop_assert_eq!(unpacked("k", bytes, &packed.media_type).unwrap(), value);
        }
    }

    #[rstest]
    #[case("text/plain; charset=utf-8", "text/plain+gzip; charset=utf-8")]
    #[case("application/json", "application/json+gzip")]
    fn the_mark_goes_before_parameters(#[case] media_type: &str, #[case] marked: &str) {
        assert_eq!(packed(&[0; 1_000], media_type, Some(1_000)).media_type, marked);
        assert_eq!(packed(&[0; 999], media_type, Some(1_000)).media_type, media_type);
        assert_eq!(packed(&[0; 999], media_type, None).media_type, media_type);
    }

    #[test]
    fn incompressible_values_stay_as_they_are() {
        // No byte repeats, so compression cannot shorten it.
        let noise: Vec<u8> = (0..=255).collect();
        assert_eq!(packed(&noise, "a/b", Some(1)).media_type, "a/b");
    }

    #[test]
    fn false_marks_and_decompression_bombs_are_errors() {
        let wrong = unpacked("k", Bytes::from_static(b"plain"), "a/b+gzip").unwrap_err();
        assert!(wrong.to_string().contains("not gzip"), "{wrong}");
        let large = vec![0; MAX_VALUE_BYTES as usize + 1];
        let bomb = packed(&large, "a/b", Some(1)).value.into_owned();
        let refused = unpacked("k", bomb.into(), "a/b+gzip").unwrap_err();
        assert!(refused.to_string().contains("more than"), "{refused}");
    }
}
