//! Values that are not JSON: a codec of one's own.

use bytes::Bytes;
use verax_client::Codec;

/// Water levels in centimeters, two bytes each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Levels;

impl Codec<Vec<i16>> for Levels {
    fn media_type(&self) -> &str {
        "application/vnd.tideline.levels"
    }

    fn encode(&self, levels: &Vec<i16>) -> Result<Bytes, String> {
        Ok(levels.iter().flat_map(|level| level.to_le_bytes()).collect())
    }

    fn decode(&self, bytes: &Bytes) -> Result<Vec<i16>, String> {
        let (levels, rest) = bytes.as_chunks::<2>();
        let levels = levels.iter().map(|level| i16::from_le_bytes(*level));
        rest.is_empty().then(|| levels.collect()).ok_or("it ends within a level".into())
    }
}
