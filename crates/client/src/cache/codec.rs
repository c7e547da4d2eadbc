//! How values become bytes and back.

use bytes::Bytes;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// How the values of a [`CacheEntry`](super::CacheEntry) are encoded. [`Json`] is the default;
/// [`Raw`] stores bytes and text as they are.
///
/// A codec of one's own, here a compact binary one:
///
/// ```
/// # use verax_client::Codec;
/// # use bytes::Bytes;
/// /// Water levels in centimeters, two bytes each.
/// #[derive(Debug, Clone, Copy)]
/// struct Levels;
///
/// impl Codec<Vec<i16>> for Levels {
///     fn media_type(&self) -> &str {
///         "application/vnd.tideline.levels"
///     }
///
///     fn encode(&self, levels: &Vec<i16>) -> Result<Bytes, String> {
///         Ok(levels.iter().flat_map(|level| level.to_le_bytes()).collect())
///     }
///
///     fn decode(&self, bytes: &Bytes) -> Result<Vec<i16>, String> {
///         let (levels, rest) = bytes.as_chunks::<2>();
///         let levels = levels.iter().map(|level| i16::from_le_bytes(*level));
///         rest.is_empty().then(|| levels.collect()).ok_or("it ends within a level".into())
///     }
/// }
/// let bytes = Levels.encode(&vec![-7, 312]).unwrap();
/// assert_eq!((bytes.len(), Levels.decode(&bytes).unwrap()), (4, vec![-7, 312]));
/// ```
pub trait Codec<T>: Clone + Send + Sync + 'static {
    /// The media type of encoded values.
    fn media_type(&self) -> &str;

    /// Encodes a value.
    ///
    /// # Errors
    /// Why it cannot be encoded.
    fn encode(&self, value: &T) -> Result<Bytes, String>;

    /// Decodes a value. The entry is refilled if that fails.
    ///
    /// # Errors
    /// What is wrong with the bytes.
    fn decode(&self, bytes: &Bytes) -> Result<T, String>;
}

/// JSON (RFC 8259), for every type that Serde can read and write.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Json;

impl<T: Serialize + DeserializeOwned> Codec<T> for Json {
    fn media_type(&self) -> &str {
        "application/json"
    }

    fn encode(&self, value: &T) -> Result<Bytes, String> {
        serde_json::to_vec(value).map(Bytes::from).map_err(|error| error.to_string())
    }

    fn decode(&self, bytes: &Bytes) -> Result<T, String> {
        serde_json::from_slice(bytes).map_err(|error| error.to_string())
    }
}

/// Bytes and text as they are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Raw;

impl Codec<Bytes> for Raw {
    fn media_type(&self) -> &str {
        "application/octet-stream"
    }

    fn encode(&self, value: &Bytes) -> Result<Bytes, String> {
        Ok(value.clone())
    }

    fn decode(&self, bytes: &Bytes) -> Result<Bytes, String> {
        Ok(bytes.clone())
    }
}

impl Codec<Vec<u8>> for Raw {
    fn media_type(&self) -> &str {
        "application/octet-stream"
    }

    fn encode(&self, value: &Vec<u8>) -> Result<Bytes, String> {
        Ok(Bytes::copy_from_slice(value))
    }

    fn decode(&self, bytes: &Bytes) -> Result<Vec<u8>, String> {
        Ok(bytes.to_vec())
    }
}

impl Codec<String> for Raw {
    fn media_type(&self) -> &str {
        "text/plain; charset=utf-8"
    }

    fn encode(&self, value: &String) -> Result<Bytes, String> {
        Ok(Bytes::copy_from_slice(value.as_bytes()))
    }

    fn decode(&self, bytes: &Bytes) -> Result<String, String> {
        String::from_utf8(bytes.to_vec()).map_err(|error| error.to_string())
    }
}
