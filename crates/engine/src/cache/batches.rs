//! Several operations in one call.

use std::sync::atomic::{AtomicUsize, Ordering};

use futures_util::{StreamExt, stream};
use verax_core::{Key, Precondition};

use super::put_request::PutRequest;
use super::read::{ReadOptions, ReadResult};
use super::written::Stored;
use crate::error::{EngineError, InvalidInput};
use crate::handle::{Deleter, Reader, Writer};

/// The maximum number of operations in one batch.
pub const MAX_BATCH_OPERATIONS: usize = 1_000;

/// The maximum total size of the values one batch returns, in bytes.
const MAX_ANSWER_BYTES: usize = verax_core::policy::MAX_VALUE_BYTES as usize;

/// How many look-ups of a batch may wait for refills concurrently.
const AT_ONCE: usize = 64;

/// One operation of a batch.
#[derive(Debug, Clone)]
pub enum Operation {
    /// Look an entry up, reading it through where the namespace has an origin.
    Get(Key, ReadOptions),
    /// Store a value.
    Put(Key, PutRequest),
    /// Delete an entry.
    Delete(Key),
}

/// The outcome of one operation of a batch; `E` is its error.
#[derive(Debug)]
pub enum Outcome<E> {
    /// The entry that was read; `None` for a miss.
    Got(Result<Option<ReadResult>, E>),
    /// The entry that was stored.
    Put(Result<Stored, E>),
    /// Whether there was an entry to delete.
    Deleted(Result<bool, E>),
}

/// A namespace opened for a batch.
#[derive(Debug)]
pub struct BatchAccess<E> {
    /// The handle for reading, or why it was refused.
    pub reads: Result<Reader, E>,
    /// The handle for writing, or why it was refused.
    pub writes: Result<Writer, E>,
    /// The handle for deleting, or why it was refused.
    pub deletes: Result<Deleter, E>,
}

impl<E> BatchAccess<E> {
    /// Charges the rates with requests beyond the batch itself.
    pub fn charge_requests(&self, more: u64) {
        let (reads, writes) = (self.reads.as_deref().ok(), self.writes.as_deref().ok());
        let namespace = reads.or(writes).or_else(|| self.deletes.as_deref().ok());
        namespace.into_iter().for_each(|namespace| namespace.charge_requests(more));
    }
}

impl<E: Clone + From<EngineError>> BatchAccess<E> {
    /// Executes the operations of a batch and returns their outcomes in the same order. Operations
    /// are independent: a failure stops no other, and the order of operations on the same key is
    /// unspecified. Operations the caller has no right to are refused one by one.
    pub async fn carry_out(&self, operations: Vec<Operation>) -> Vec<Outcome<E>> {
        // Counted as values arrive, so that no more than the limit is ever held.
        let brought = AtomicUsize::new(0);
        let within = |answer: Option<ReadResult>| {
            let size = answer.as_ref().map_or(0, ReadResult::size);
            match brought.fetch_add(size, Ordering::Relaxed) + size <= MAX_ANSWER_BYTES {
                true => Ok(answer),
                false => Err(InvalidInput::BatchValues { max: MAX_ANSWER_BYTES }.into()),
            }
        };
        let carried_out = stream::iter(operations).map(async |operation| match operation {
            Operation::Get(key, options) => Outcome::Got(match &self.reads {
                Ok(reader) => reader.read(&key, options).await.and_then(within).map_err(E::from),
                Err(error) => Err(error.clone()),
            }),
            Operation::Put(key, request) => Outcome::Put(match &self.writes {
                Ok(writer) => writer.put(&key, request, None).await.map_err(E::from),
                Err(error) => Err(error.clone()),
            }),
            Operation::Delete(key) => Outcome::Deleted(match &self.deletes {
                Ok(deleter) => {
                    deleter.delete(&key, Precondition::Always, None).await.map_err(E::from)
                }
                Err(error) => Err(error.clone()),
            }),
        });
        carried_out.buffered(AT_ONCE).collect().await
    }
}
