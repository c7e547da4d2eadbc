//! Tags over HTTP.

use crate::error::ClientError;
use crate::http::entries::Namespace;

impl Namespace {
    /// Invalidates every entry with a tag.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn invalidate_tag(&self, tag: &str) -> Result<(), ClientError> {
        self.client().delete(self.of_key("tags", tag)?).await
    }
}
