//! Several operations in one call.

use std::sync::atomic::{AtomicUsize, Ordering};

use futures_util::{StreamExt, stream};
use verax_core::{Key, Precondition};

use super::put_request::PutRequest;
use super::read::{ReadOptions, ReadResult};
use super::written::Stored;
use crate::error::EngineError;
use crate::handle::{Reader, Writer};

/// The most operations in one batch.
pub const MAX_BATCH_OPERATIONS: usize = 1_000;

/// The most bytes of values that one batch brings back, together.
const MAX_ANSWER_BYTES: usize = verax_core::policy::MAX_VALUE_BYTES as usize;

/// How many of a batch's look-ups may wait for refills at the same time.
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

/// What became of one operation of a batch; `E` is why one failed or was refused.
#[derive(Debug)]
pub enum Outcome<E> {
    /// What was looked up; `None` for a miss.
    Got(Result<Option<ReadResult>, E>),
    /// The entry that was stored.
    Put(Result<Stored, E>),
    /// Whether there was an entry to delete.
    Deleted(Result<bool, E>),
}

/// A namespace as it was opened for a batch.
#[derive(Debug)]
pub struct BatchAccess<E> {
    /// With the right to read, or why not.
    pub reads: Result<Reader, E>,
    /// With the right to write, or why not.
    pub writes: Result<Writer, E>,
}

impl<E: Clone + From<EngineError>> BatchAccess<E> {
    /// Carries out the operations of a batch and returns their outcomes in the same order. Each
    /// stands for itself: one that fails stops no other, and in which order those of one key are
    /// carried out is not said. Operations whose right is lacking are refused one by one.
    pub async fn carry_out(&self, operations: Vec<Operation>) -> Vec<Outcome<E>> {
        // Counted as values come, so that no more than that is held at any time.
        let brought = AtomicUsize::new(0);
        let within = |answer: Option<ReadResult>| {
            let size = answer.as_ref().map_or(0, ReadResult::size);
            match brought.fetch_add(size, Ordering::Relaxed) + size <= MAX_ANSWER_BYTES {
                true => Ok(answer),
                false => Err(EngineError::Invalid(format!(
                    "the values of one batch exceed {MAX_ANSWER_BYTES} bytes: read fewer at a time"
                ))),
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
            Operation::Delete(key) => Outcome::Deleted(match &self.writes {
                Ok(writer) => {
                    writer.delete(&key, Precondition::Always, None).await.map_err(E::from)
                }
                Err(error) => Err(error.clone()),
            }),
        });
        carried_out.buffered(AT_ONCE).collect().await
    }
}
