//! Whose turn it is to write a key through.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use verax_core::{Key, NamespaceId};

type EntryAddress = (NamespaceId, Key);
type Turn = Arc<tokio::sync::Mutex<()>>;

/// Whose turn it is to write a key.
#[derive(Debug, Default)]
pub(crate) struct WriteTurns(Mutex<HashMap<EntryAddress, Turn>>);

/// A writer that waits for its turn or has it.
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
        // The table's and this one's.
        if Arc::strong_count(&self.turn) <= 2 {
            turns.remove(&self.place);
        }
    }
}
