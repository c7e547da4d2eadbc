//! Writes through: to the origin first, then to the entry.
//!
//! Writes of one key are serialized, so that entry and origin agree on the last one. Each runs to
//! its end in a task of its own: a caller that disconnects midway must not leave the entry behind
//! the origin. A write the origin refused changes nothing; one with an unknown outcome removes the
//! entry, since either value may be current.

use std::sync::Arc;

use verax_core::{Key, Precondition};
use verax_origin::{OriginError, OriginWrite, TraceContext};

use super::put_request::PutRequest;
use super::written::{Stored, Written};
use crate::engine::Namespace;
use crate::error::{EngineError, InvalidInput, Overload};
use crate::events::Event;
use crate::handle::{Deleter, Handle, Writer};

impl Writer {
    /// Stores a value: in the origin first, if the namespace writes through. An active refill of
    /// the key will not overwrite it.
    ///
    /// # Errors
    /// [`EngineError`]: the size, the condition, or [`EngineError::NotWritten`] when the origin did
    /// not take it.
    pub fn put(
        &self,
        key: &Key,
        request: PutRequest,
        trace: Option<TraceContext>,
    ) -> Written<Stored> {
        self.count_received(request.value.len() as u64);
        if !self.writes_through() {
            return Written::Now(self.put_request(key, request));
        }
        self.in_turn(key, request.value.len(), move |namespace, key| async move {
            // Anything that can be refused is refused before the origin is written.
            let entry = namespace.entry_of(request.clone(), namespace.engine().now())?;
            namespace.holds(&key, &request.condition)?;
            let write = match entry.is_negative() {
                true => OriginWrite::Delete,
                false => {
                    OriginWrite::Put { value: &entry.value, media_type: entry.media_type.as_str() }
                }
            };
            namespace.send(&key, write, trace.as_ref()).await?;
            let request = PutRequest { condition: Precondition::Always, ..request };
            let stored = namespace.put_request(&key, request);
            if stored.is_err() {
                // The origin has the new value, so the previous entry is outdated.
                namespace.delete_always(&key);
            }
            stored
        })
    }
}

impl Deleter {
    /// Deletes an entry: from the origin first, if the namespace writes through. Returns whether
    /// the entry existed. An active refill of it will not be stored.
    ///
    /// # Errors
    /// [`EngineError::ConditionFailed`], [`EngineError::NotWritten`] when the origin did not take
    /// it.
    pub fn delete(
        &self,
        key: &Key,
        condition: Precondition,
        trace: Option<TraceContext>,
    ) -> Written<bool> {
        if !self.writes_through() {
            return Written::Now(self.delete_entry(key, &condition));
        }
        self.in_turn(key, 0, move |namespace, key| async move {
            namespace.holds(&key, &condition)?;
            namespace.send(&key, OriginWrite::Delete, trace.as_ref()).await?;
            Ok(namespace.delete_always(&key))
        })
    }
}

impl<R> Handle<R> {
    /// Writes to the origin once earlier writes of the key have ended. Its value is held until the
    /// origin has responded, even if its sender disconnects.
    fn in_turn<T, W>(
        &self,
        key: &Key,
        value_bytes: usize,
        write: impl FnOnce(Arc<Namespace>, Key) -> W + Send + 'static,
    ) -> Written<T>
    where
        T: Send + 'static,
        W: Future<Output = Result<T, EngineError>> + Send,
    {
        let held = self.in_flight().reserve_wait().and_then(|mut held| {
            held.join(self.in_flight().reserve_all(value_bytes)?);
            Ok(held)
        });
        let held = match held {
            Ok(held) => held,
            Err(busy) => return Written::Now(Err(busy)),
        };
        let (namespace, key) = (Arc::clone(self.shared()), key.clone());
        to_its_end(async move {
            let _held = held;
            let engine = Arc::clone(namespace.engine());
            let writer = engine.cache.writes.of((namespace.id(), key.clone()));
            let _turn = writer.turn.lock().await;
            write(namespace, key).await
        })
    }
}

impl Namespace {
    fn put_request(&self, key: &Key, request: PutRequest) -> Result<Stored, EngineError> {
        let condition = request.condition.clone();
        let entry = self.entry_of(request, self.engine().now())?;
        self.put_entry(key, entry, condition)
    }

    fn delete_always(&self, key: &Key) -> bool {
        // Without a condition the delete cannot fail.
        self.delete_entry(key, &Precondition::Always).unwrap_or(false)
    }

    /// Sends a write to the origin.
    async fn send(
        &self,
        key: &Key,
        write: OriginWrite<'_>,
        trace: Option<&TraceContext>,
    ) -> Result<(), EngineError> {
        let binding = self.binding();
        let (Some(origin), Some(choice)) = (&binding.origin, &binding.policy.origin) else {
            return Err(InvalidInput::NoOrigin.into());
        };
        let values = choice
            .key_pattern
            .values_of(key.as_str())
            .ok_or_else(|| InvalidInput::KeyMismatch { pattern: choice.key_pattern.clone() })?;
        self.notify(&Event::OriginWrite);
        let sent = origin.write_guarded(&values, write, trace).await;
        sent.map_err(|error: OriginError| {
            self.notify(&Event::OriginWriteFailed);
            tracing::debug!(namespace = %self.path(), %key, %error, "a write was not taken");
            if !error.is_certain() {
                self.delete_always(key);
            }
            EngineError::NotWritten { error: Arc::new(error) }
        })
    }

    /// Whether a condition for storing holds for the current entry.
    fn holds(&self, key: &Key, condition: &Precondition) -> Result<(), EngineError> {
        let found = self.partition().peek(key.as_str(), self.engine().now());
        condition.check(found.as_ref()).map_err(|_| EngineError::ConditionFailed)
    }
}

/// Runs a write in a task of its own, which finishes even if its caller goes away.
fn to_its_end<T: Send + 'static>(
    write: impl Future<Output = Result<T, EngineError>> + Send + 'static,
) -> Written<T> {
    let task = tokio::spawn(write);
    Written::Later(Box::pin(
        async move { task.await.unwrap_or(Err(Overload::WriteAbandoned.into())) },
    ))
}
