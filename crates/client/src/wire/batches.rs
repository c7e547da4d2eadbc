//! Several keys in one call.

use verax_wire::{BatchOperations, GetFlags, MAX_BATCH_OPERATIONS, Reply, Request};

use super::cache::Cache;
use super::frames::{checked, done, hit, put_frame, unexpected};
use super::link::{RawReply, refusal};
use super::options::{Hit, PutMany};
use crate::error::ClientError;

/// The values of one batch take at most so many bytes, unless it has only one.
const MAX_BATCH_BYTES: usize = 4 << 20;

/// Splits operations into batches that fit.
fn parts<'s, 'r>(mut operations: &'s [Request<'r>]) -> Vec<&'s [Request<'r>]> {
    let size = |operation: &Request<'_>| match operation {
        Request::Put(put) => put.value.len() + put.key.len(),
        _ => 0,
    };
    let mut parts = Vec::new();
    while !operations.is_empty() {
        let mut bytes = 0;
        let fitting = operations.iter().take(MAX_BATCH_OPERATIONS).take_while(|operation| {
            bytes += size(operation);
            bytes <= MAX_BATCH_BYTES
        });
        let (part, rest) = operations.split_at(fitting.count().max(1));
        parts.push(part);
        operations = rest;
    }
    parts
}

impl Cache {
    /// Sends the valid operations, in as many batches as they need; an invalid one fails in its
    /// place.
    async fn batch<T>(
        &self,
        operations: impl Iterator<Item = Result<Request<'_>, ClientError>>,
        read: impl Fn(&RawReply, Reply<'_>) -> Result<T, ClientError>,
    ) -> Result<Vec<Result<T, ClientError>>, ClientError> {
        let (mut sent, mut places) = (Vec::new(), Vec::new());
        for operation in operations {
            match operation {
                Ok(operation) => {
                    sent.push(operation);
                    places.push(None);
                }
                Err(error) => places.push(Some(error)),
            }
        }
        let parts: Vec<&[Request<'_>]> = parts(&sent);
        let mut answered = Vec::with_capacity(sent.len());
        for part in &parts {
            let raw = self.request(Request::Batch(BatchOperations::of(part))).await;
            let results = raw.and_then(|raw| each(&raw, |reply| read(&raw, reply)));
            match results {
                Ok(results) => answered.extend(results),
                Err(error) if parts.len() == 1 => return Err(error),
                // Earlier parts were carried out.
                Err(error) => answered.extend(part.iter().map(|_| Err(error.clone()))),
            }
        }
        let mut answered = answered.into_iter();
        let in_order = places.into_iter().map(|place| match place {
            Some(error) => Err(error),
            None => answered.next().unwrap_or_else(|| Err(unexpected())),
        });
        Ok(in_order.collect())
    }

    /// Gets several entries; the results are in the order of the keys.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn get_many(
        &self,
        keys: &[&str],
    ) -> Result<Vec<Result<Option<Hit>, ClientError>>, ClientError> {
        if self.compresses() {
            // Batches return no media types, which would tell what to decompress.
            return Ok(futures_util::future::join_all(keys.iter().map(|key| self.get(key))).await);
        }
        let get = |key| Ok(Request::Get { key: checked(key)?, flags: GetFlags::default() });
        let read = |raw: &RawReply, reply: Reply<'_>| match reply {
            Reply::Value(value) => Ok(Some(hit(raw, &value))),
            Reply::Miss => Ok(None),
            _ => Err(unexpected()),
        };
        self.batch(keys.iter().map(|key| get(key)), read).await
    }

    /// Stores several values; the results say, in order, whether each replaced one.
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
        let operations = values.iter().zip(&tags).zip(&packed).map(|((v, tags), packed)| {
            Ok(Request::Put(put_frame(&v.key, packed, &v.options, tags)?))
        });
        let results = self.batch(operations, |_, reply| done(reply)).await;
        values.iter().for_each(|value| self.forget(&value.key));
        results
    }

    /// Deletes several entries; the results say, in order, whether each existed.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn delete_many(
        &self,
        keys: &[&str],
    ) -> Result<Vec<Result<bool, ClientError>>, ClientError> {
        let operations = keys.iter().map(|key| Ok(Request::Delete { key: checked(key)? }));
        let results = self.batch(operations, |_, reply| done(reply)).await;
        keys.iter().for_each(|key| self.forget(key));
        results
    }
}

/// The outcome of each operation of a batch.
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
