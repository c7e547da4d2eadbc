//! Several keys in one call.

use tokio::time::Instant;
use verax_wire::{BatchOperations, GetFlags, MAX_BATCH_OPERATIONS, Reply, Request};

use super::events::CacheEventKind;
use super::frames::{checked, done, put_frame, unexpected};
use super::handle::Cache;
use super::options::{Hit, PutMany};
use crate::error::ClientError;
use crate::lookup::Lookup;
use crate::wire::link::{RawReply, refused};

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
    /// place. `read` interprets the reply to the operation on a key.
    async fn batch<'r, T>(
        &self,
        operations: impl Iterator<Item = Result<Request<'r>, ClientError>>,
        read: impl Fn(&str, &RawReply, Result<Reply<'_>, ClientError>) -> Result<T, ClientError>,
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
            let results = raw.and_then(|raw| {
                let Reply::Batch(replies) = raw.reply()? else { return Err(unexpected()) };
                let results = part.iter().zip(replies.iter()).map(|(operation, reply)| {
                    let reply = match reply {
                        Reply::Failed { .. } => Err(refused(&reply)),
                        reply => Ok(reply),
                    };
                    read(key_of(operation), &raw, reply)
                });
                Ok(results.collect::<Vec<_>>())
            });
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

    /// Counts one event for each key of a batch of `count`.
    fn note_each<T>(
        &self,
        started: Instant,
        kind: CacheEventKind,
        count: usize,
        results: &Result<Vec<Result<T, ClientError>>, ClientError>,
        bytes: impl Fn(usize) -> usize,
    ) {
        for at in 0..count {
            let error = match results {
                Ok(results) => results.get(at).and_then(|result| result.as_ref().err()),
                Err(error) => Some(error),
            };
            self.note_with(kind, started, bytes(at), error);
        }
    }

    /// Gets several entries; the results are in the order of the keys. Near copies are not used.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn get_many(
        &self,
        keys: &[&str],
    ) -> Result<Vec<Result<Option<Hit>, ClientError>>, ClientError> {
        let started = Instant::now();
        let results = self.look_up_many(keys).await;
        match &results {
            Ok(results) => {
                results.iter().for_each(|result| self.note_read(started, result.as_ref()));
            }
            Err(error) => keys.iter().for_each(|_| self.note_read(started, Err(error))),
        }
        Ok(results?.into_iter().map(|result| result.map(Lookup::found)).collect())
    }

    async fn look_up_many(
        &self,
        keys: &[&str],
    ) -> Result<Vec<Result<Lookup<Hit>, ClientError>>, ClientError> {
        for key in keys.iter().filter(|key| self.0.lost.concerns(key)) {
            let settled =
                tokio::time::timeout(self.0.options.timeout, Box::pin(self.settle_lost(key))).await;
            settled.unwrap_or_else(|_| Err(self.timed_out(self.0.options.timeout)))?;
        }
        let flags = GetFlags { details: self.compresses(), ..GetFlags::default() };
        let gets = keys.iter().map(|key| Ok(Request::Get { key: checked(key)?, flags }));
        self.batch(gets, |key, raw, reply| self.found(key, raw, reply, None)).await
    }

    /// Stores several values; the results say, in order, whether each replaced one.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole fails.
    pub async fn put_many(
        &self,
        values: &[PutMany],
    ) -> Result<Vec<Result<bool, ClientError>>, ClientError> {
        let started = Instant::now();
        let tags: Vec<Vec<&str>> =
            values.iter().map(|v| v.options.tags.iter().map(String::as_str).collect()).collect();
        let packed: Vec<_> = values.iter().map(|v| self.packed(&v.value, &v.options)).collect();
        let operations = values.iter().zip(&tags).zip(&packed).map(|((v, tags), packed)| {
            Ok(Request::Put(put_frame(&v.key, packed, &v.options, tags)?))
        });
        let results = self.batch(operations, |_, _, reply| done(reply?)).await;
        values.iter().for_each(|value| self.forget(&value.key));
        let bytes = |at: usize| values[at].value.len();
        self.note_each(started, CacheEventKind::Put, values.len(), &results, bytes);
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
        let started = Instant::now();
        let operations = keys.iter().map(|key| Ok(Request::Delete { key: checked(key)? }));
        let results = self.batch(operations, |_, _, reply| done(reply?)).await;
        keys.iter().for_each(|key| self.forget(key));
        self.note_each(started, CacheEventKind::Delete, keys.len(), &results, |_| 0);
        results
    }
}

/// The key of an operation of a batch.
fn key_of<'r>(operation: &Request<'r>) -> &'r str {
    match operation {
        Request::Get { key, .. } | Request::Delete { key } => key,
        Request::Put(put) => put.key,
        _ => "",
    }
}
