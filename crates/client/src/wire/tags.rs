//! Invalidation by tag.

use verax_wire::Request;

use super::cache::Cache;
use super::frames::{checked_tag, was_there};
use super::link::Invalidation;
use crate::error::ClientError;

impl Cache {
    /// Invalidates every entry with a tag.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn invalidate_tag(&self, tag: &str) -> Result<(), ClientError> {
        let raw = self.request(Request::InvalidateTag { tag: checked_tag(tag)? }).await;
        if let Some(near) = &self.0.near {
            near.pushed(&Invalidation::Tag(tag.to_owned()));
        }
        was_there(&raw?).map(drop)
    }
}
