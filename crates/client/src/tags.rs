//! Tags over HTTP.

use crate::entries::Namespace;
use crate::error::ClientError;

impl Namespace {
    /// Ends every entry that carries a tag.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn invalidate_tag(&self, tag: &str) -> Result<(), ClientError> {
        self.client().delete(self.of_key("tags", tag)?).await
    }
}
