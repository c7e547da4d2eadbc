//! Several operations in one call.

use std::sync::Arc;

use futures_util::{StreamExt, stream};
use verax_core::entry::Entry;
use verax_core::{Key, Name, Precondition};

use super::{Answer, PutRequest, ReadOptions};
use crate::access::{Caller, Right};
use crate::error::ServiceError;
use crate::namespace::Namespace;
use crate::service::Service;

/// The most operations in one batch.
pub const LARGEST_BATCH: usize = 1_000;

/// The most bytes of values that one batch brings back, together.
const LARGEST_ANSWER: usize = verax_core::policy::LARGEST_VALUE as usize;

/// How many of a batch's look-ups may wait for refills at the same time.
const AT_ONCE: usize = 64;

/// One operation of a batch.
#[derive(Debug, Clone)]
pub enum Operation {
    /// Look an entry up, reading it through where the namespace has an origin.
    Get(Key),
    /// Store a value.
    Put(Key, PutRequest),
    /// Delete an entry.
    Delete(Key),
}

/// What became of one operation of a batch.
#[derive(Debug)]
pub enum Outcome {
    /// What was looked up; `None` for a miss.
    Got(Result<Option<Answer>, ServiceError>),
    /// The entry that was stored, and whether it replaced one.
    Put(Result<(Entry, bool), ServiceError>),
    /// Whether there was an entry to delete.
    Deleted(Result<bool, ServiceError>),
}

/// A namespace as it was opened for a batch.
#[derive(Debug)]
pub struct BatchAccess {
    /// With the right to read, or why not.
    pub reads: Result<Arc<Namespace>, ServiceError>,
    /// With the right to write, or why not.
    pub writes: Result<Arc<Namespace>, ServiceError>,
}

impl Service {
    /// Carries out the operations of a batch and returns their outcomes in the same order. Each
    /// stands for itself: one that fails stops no other, and in which order those of one key are
    /// carried out is not said. Operations whose right `access` lacks are refused one by one.
    pub async fn batch(
        self: &Arc<Self>,
        access: &BatchAccess,
        operations: Vec<Operation>,
    ) -> Vec<Outcome> {
        let carried_out = stream::iter(operations).map(async |operation| match operation {
            Operation::Get(key) => Outcome::Got(match &access.reads {
                Ok(namespace) => self.read(namespace, &key, ReadOptions::default()).await,
                Err(error) => Err(error.clone()),
            }),
            Operation::Put(key, request) => Outcome::Put(match &access.writes {
                Ok(namespace) if namespace.writes_through() => {
                    self.put_through(namespace, &key, request, None).await
                }
                Ok(namespace) => self.put(namespace, &key, request),
                Err(error) => Err(error.clone()),
            }),
            Operation::Delete(key) => Outcome::Deleted(match &access.writes {
                Ok(namespace) if namespace.writes_through() => {
                    self.delete_through(namespace, &key, Precondition::Always, None).await
                }
                Ok(namespace) => Ok(self.delete(namespace, &key)),
                Err(error) => Err(error.clone()),
            }),
        });
        let mut brought = 0usize;
        let within = move |outcome| match outcome {
            Outcome::Got(Ok(Some(answer))) => {
                brought = brought.saturating_add(Answer::size(&answer));
                Outcome::Got(match brought <= LARGEST_ANSWER {
                    true => Ok(Some(answer)),
                    false => Err(ServiceError::Invalid(format!(
                        "the values of one batch come to more than {LARGEST_ANSWER} bytes: ask for fewer at a time"
                    ))),
                })
            }
            other => other,
        };
        carried_out.buffered(AT_ONCE).map(within).collect().await
    }

    /// Opens a namespace for a batch, with the right to read, to write, or both.
    ///
    /// # Errors
    /// [`ServiceError`] when it can be opened with neither right.
    pub fn open_for_batch(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<BatchAccess, ServiceError> {
        let open = |right| self.open(caller, right, tenant, namespace);
        match (open(Right::Read), open(Right::Write)) {
            (Err(error), Err(_)) => Err(error),
            (reads, writes) => Ok(BatchAccess { reads, writes }),
        }
    }
}
