//! Several keys in one call.

use verax_wire::{BatchOperations, GetFlags, LARGEST_BATCH, Reply, Request};

use super::cache::{Cache, checked, done, hit, put_frame, unexpected};
use super::link::{RawReply, refusal};
use super::options::{Hit, PutMany};
use crate::error::ClientError;

impl Cache {
    async fn batch(&self, operations: &[Request<'_>]) -> Result<RawReply, ClientError> {
        if operations.len() > LARGEST_BATCH {
            let many = operations.len();
            let text =
                format!("a batch of {many} operations is too large: use at most {LARGEST_BATCH}");
            return Err(ClientError::Invalid(text));
        }
        self.ask(Request::Batch(BatchOperations::of(operations))).await
    }

    /// Looks several entries up; the results come in the order of the keys.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn get_many(
        &self,
        keys: &[&str],
    ) -> Result<Vec<Result<Option<Hit>, ClientError>>, ClientError> {
        if self.compresses() {
            // A batch brings no media types, which tell what is to be unpacked.
            return Ok(futures_util::future::join_all(keys.iter().map(|key| self.get(key))).await);
        }
        let operations: Result<Vec<Request<'_>>, ClientError> = keys
            .iter()
            .map(|key| Ok(Request::Get { key: checked(key)?, flags: GetFlags::default() }))
            .collect();
        let raw = self.batch(&operations?).await?;
        each(&raw, |reply| match reply {
            Reply::Value(value) => Ok(Some(hit(&raw, &value))),
            Reply::Miss => Ok(None),
            _ => Err(unexpected()),
        })
    }

    /// Stores several values; the results tell, in their order, whether each replaced one.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn put_many(
        &self,
        values: &[PutMany],
    ) -> Result<Vec<Result<bool, ClientError>>, ClientError> {
        let tags: Vec<Vec<&str>> =
            values.iter().map(|v| v.options.tags.iter().map(String::as_str).collect()).collect();
        let packed: Vec<_> = values.iter().map(|v| self.packed(&v.value, &v.options)).collect();
        let operations: Result<Vec<Request<'_>>, ClientError> = values
            .iter()
            .zip(&tags)
            .zip(&packed)
            .map(|((v, tags), packed)| {
                Ok(Request::Put(put_frame(&v.key, packed, &v.options, tags)?))
            })
            .collect();
        let raw = self.batch(&operations?).await;
        values.iter().for_each(|value| self.forget(&value.key));
        each(&raw?, done)
    }

    /// Deletes several entries; the results tell, in their order, whether each was there.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn delete_many(
        &self,
        keys: &[&str],
    ) -> Result<Vec<Result<bool, ClientError>>, ClientError> {
        let operations: Result<Vec<Request<'_>>, ClientError> =
            keys.iter().map(|key| Ok(Request::Delete { key: checked(key)? })).collect();
        let raw = self.batch(&operations?).await;
        keys.iter().for_each(|key| self.forget(key));
        each(&raw?, done)
    }
}

/// What became of each operation of a batch.
fn each<T>(
    raw: &RawReply,
    read: impl Fn(Reply<'_>) -> Result<T, ClientError>,
) -> Result<Vec<Result<T, ClientError>>, ClientError> {
    let Reply::Batch(replies) = raw.reply()? else { return Err(unexpected()) };
    let results = replies.iter().map(|reply| match reply {
        Reply::Failed { code, unchanged, detail } => Err(refusal(code, unchanged, detail)),
        reply => read(reply),
    });
    Ok(results.collect())
}
