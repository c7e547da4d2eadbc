//! A request to store a value.

use bytes::Bytes;
use verax_core::Precondition;
use verax_core::entry::{MediaType, Tag};
use verax_core::lifetime::CacheControl;

/// A value to store.
#[derive(Debug, Clone)]
pub struct PutRequest {
    /// The value's bytes.
    pub value: Bytes,
    /// Its media type.
    pub media_type: MediaType,
    /// The requested lifetime; absent parts come from the namespace's policy.
    pub cache_control: CacheControl,
    /// Its tags.
    pub tags: Vec<Tag>,
    /// The condition for storing it.
    pub condition: Precondition,
}
