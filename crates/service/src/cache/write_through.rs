//! Writing through: the origin first, then the entry.
//!
//! Writes of one key take turns, so that entry and origin agree on which was last. Each is carried to
//! its end by a task of its own: a caller that goes away in the middle must not leave the entry behind
//! the origin. A write that the origin refused changes nothing; one whose outcome is not known removes
//! the entry, since nobody can say what would be true.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use verax_core::entry::Entry;
use verax_core::{Key, NamespaceId, Precondition};
use verax_origin::{OriginError, OriginWrite, TraceContext};

use super::PutRequest;
use crate::error::ServiceError;
use crate::namespace::{Namespace, count};
use crate::service::Service;

type Place = (NamespaceId, Key);
type Turn = Arc<tokio::sync::Mutex<()>>;

/// Whose turn it is to write a key.
#[derive(Debug, Default)]
pub(crate) struct WriteTurns(Mutex<HashMap<Place, Turn>>);

/// A writer that waits for its turn or has it.
struct Writer<'t> {
    turns: &'t WriteTurns,
    place: Place,
    turn: Turn,
}

impl WriteTurns {
    fn of(&self, place: Place) -> Writer<'_> {
        let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let turn = Arc::clone(turns.entry(place.clone()).or_default());
        Writer { turns: self, place, turn }
    }
}

impl Drop for Writer<'_> {
    fn drop(&mut self) {
        let mut turns = self.turns.0.lock().unwrap_or_else(PoisonError::into_inner);
        // The table's and this one's.
        if Arc::strong_count(&self.turn) <= 2 {
            turns.remove(&self.place);
        }
    }
}

impl Service {
    /// Stores a value in the origin of a namespace that writes through, and then as its entry. Returns
    /// the entry, and whether it replaced one. It goes on to its end if the caller does not wait.
    ///
    /// # Errors
    /// [`ServiceError::NotWritten`] when the origin did not take it; else as for [`put`](Self::put).
    pub async fn put_through(
        self: &Arc<Self>,
        namespace: &Arc<Namespace>,
        key: &Key,
        request: PutRequest,
        trace: Option<TraceContext>,
    ) -> Result<(Entry, bool), ServiceError> {
        let (service, namespace, key) = (Arc::clone(self), Arc::clone(namespace), key.clone());
        to_its_end(async move {
            let writer = service.cache.writes.of((namespace.id(), key.clone()));
            let _turn = writer.turn.lock().await;
            // What can be refused is refused before the origin knows of it.
            let entry = namespace.entry_of(request.clone(), service.now())?;
            service.holds(&namespace, &key, &request.condition)?;
            let write = match entry.is_negative() {
                true => OriginWrite::Delete,
                false => {
                    OriginWrite::Put { value: &entry.value, media_type: entry.media_type.as_str() }
                }
            };
            service.send(&namespace, &key, write, trace.as_ref()).await?;
            let request = PutRequest { condition: Precondition::Always, ..request };
            let stored = service.put(&namespace, &key, request);
            if stored.is_err() {
                // The origin has the new value, so the entry before is old.
                service.delete(&namespace, &key);
            }
            stored
        })
        .await
    }

    /// Deletes a value from the origin of a namespace that writes through, and then its entry. Returns
    /// whether there was an entry. It goes on to its end if the caller does not wait.
    ///
    /// # Errors
    /// [`ServiceError::ConditionFailed`], [`ServiceError::NotWritten`] when the origin did not take it.
    pub async fn delete_through(
        self: &Arc<Self>,
        namespace: &Arc<Namespace>,
        key: &Key,
        condition: Precondition,
        trace: Option<TraceContext>,
    ) -> Result<bool, ServiceError> {
        let (service, namespace, key) = (Arc::clone(self), Arc::clone(namespace), key.clone());
        to_its_end(async move {
            let writer = service.cache.writes.of((namespace.id(), key.clone()));
            let _turn = writer.turn.lock().await;
            service.holds(&namespace, &key, &condition)?;
            service.send(&namespace, &key, OriginWrite::Delete, trace.as_ref()).await?;
            Ok(service.delete(&namespace, &key))
        })
        .await
    }

    /// Sends a write to the origin.
    async fn send(
        &self,
        namespace: &Namespace,
        key: &Key,
        write: OriginWrite<'_>,
        trace: Option<&TraceContext>,
    ) -> Result<(), ServiceError> {
        let binding = namespace.binding();
        let (Some(origin), Some(choice)) = (&binding.origin, &binding.policy.origin) else {
            return Err(ServiceError::Invalid("the namespace no longer has an origin".into()));
        };
        let values = choice.key_pattern.values_of(key.as_str()).ok_or_else(|| {
            let pattern = &choice.key_pattern;
            ServiceError::Invalid(format!(
                "the key does not have the shape {pattern} of this namespace"
            ))
        })?;
        count(&namespace.counters().origin_writes);
        let sent = origin.write_guarded(&values, write, trace).await;
        sent.map_err(|error: OriginError| {
            count(&namespace.counters().origin_errors);
            tracing::debug!(namespace = %namespace.path(), %key, %error, "a write was not taken");
            if !error.is_certain() {
                self.delete(namespace, key);
            }
            ServiceError::NotWritten { error: Arc::new(error) }
        })
    }

    /// Whether a condition for storing holds for the entry that is there.
    fn holds(
        &self,
        namespace: &Namespace,
        key: &Key,
        condition: &Precondition,
    ) -> Result<(), ServiceError> {
        let found = namespace.partition().peek(key.as_str(), self.now());
        condition.check(found.as_ref()).map_err(|_| ServiceError::ConditionFailed)
    }
}

/// Runs a write in a task of its own and waits for it.
async fn to_its_end<T: Send + 'static>(
    write: impl Future<Output = Result<T, ServiceError>> + Send + 'static,
) -> Result<T, ServiceError> {
    tokio::spawn(write).await.unwrap_or(Err(ServiceError::Busy("the write was given up")))
}
