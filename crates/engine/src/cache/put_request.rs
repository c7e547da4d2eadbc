//! What is to be stored.

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
    /// The lifetime asked for; absent parts come from the namespace's policy.
    pub cache_control: CacheControl,
    /// Its tags.
    pub tags: Vec<Tag>,
    /// What must hold for it to be stored.
    pub condition: Precondition,
}
