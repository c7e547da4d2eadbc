//! Batches over HTTP.

use verax_api::{BatchAnswer, BatchOperation, BatchRequest, BatchResult};

use crate::error::ClientError;
use crate::http::entries::Namespace;

impl Namespace {
    /// Executes several operations; their results are in the same order.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole is refused.
    pub async fn batch(
        &self,
        operations: Vec<BatchOperation>,
    ) -> Result<Vec<BatchResult>, ClientError> {
        let request = BatchRequest { operations };
        Ok(self.client().post::<BatchAnswer>(self.below(&["batch"]), &request).await?.results)
    }
}
