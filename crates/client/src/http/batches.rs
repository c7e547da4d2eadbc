//! Batches over HTTP.

use verax_api::{BatchAnswer, BatchOperation, BatchRequest, BatchResult};

use verax_wire::MAX_BATCH_OPERATIONS;

use crate::error::ClientError;
use crate::http::entries::Namespace;

impl Namespace {
    /// Executes several operations, in as many batches as they need; their results are in the same
    /// order.
    ///
    /// # Errors
    /// [`ClientError`] when a batch as a whole is refused; those before it were executed.
    pub async fn batch(
        &self,
        operations: Vec<BatchOperation>,
    ) -> Result<Vec<BatchResult>, ClientError> {
        let (mut operations, mut results) = (operations, Vec::new());
        while !operations.is_empty() {
            let rest = operations.split_off(operations.len().min(MAX_BATCH_OPERATIONS));
            let request = BatchRequest { operations: std::mem::replace(&mut operations, rest) };
            let answer: BatchAnswer = self.client().post(self.below(&["batch"]), &request).await?;
            results.extend(answer.results);
        }
        Ok(results)
    }
}
