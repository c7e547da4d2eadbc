//! Invalidation by tag.

use tokio::time::Instant;
use verax_wire::Request;

use super::events::CacheEventKind;
use super::frames::{checked_tag, was_there};
use super::handle::Cache;
use crate::error::ClientError;
use crate::wire::link::Invalidation;

impl Cache {
    /// Invalidates every entry with a tag.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn invalidate_tag(&self, tag: &str) -> Result<(), ClientError> {
        let (started, request) =
            (Instant::now(), Request::InvalidateTag { tag: checked_tag(tag)? });
        let outcome = self.request(request).await.and_then(|raw| was_there(&raw).map(drop));
        if let Some(near) = &self.0.near {
            near.pushed(&Invalidation::Tag(tag.to_owned()));
        }
        self.note_with(CacheEventKind::Invalidate, started, 0, outcome.as_ref().err());
        outcome
    }
}
