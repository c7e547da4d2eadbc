//! Serializes write-throughs of one key.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use verax_core::{Key, NamespaceId};

type EntryAddress = (NamespaceId, Key);
type Turn = Arc<tokio::sync::Mutex<()>>;

/// The queue of writers of each key.
#[derive(Debug, Default)]
pub(crate) struct WriteTurns(Mutex<HashMap<EntryAddress, Turn>>);

/// A writer that is queued or has its turn.
pub(super) struct Waiting<'t> {
    turns: &'t WriteTurns,
    place: EntryAddress,
    pub(super) turn: Turn,
}

impl WriteTurns {
    pub(super) fn of(&self, place: EntryAddress) -> Waiting<'_> {
        let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let turn = Arc::clone(turns.entry(place.clone()).or_default());
        Waiting { turns: self, place, turn }
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        let mut turns = self.turns.0.lock().unwrap_or_else(PoisonError::into_inner);
        // One reference in the table and one here.
        if Arc::strong_count(&self.turn) <= 2 {
            turns.remove(&self.place);
        }
    }
}
