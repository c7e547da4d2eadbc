//! The application's database, as far as recipes need one.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};

/// The departures of a harbor.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Board {
    /// The harbor.
    pub harbor: String,
    /// What leaves, in order.
    pub sailings: Vec<String>,
}

/// The database did not answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the database is away")]
pub struct DatabaseError;

#[derive(Debug, Default)]
struct Inner {
    boards: Mutex<BTreeMap<String, Vec<String>>>,
    reads: AtomicU64,
    is_away: AtomicBool,
}

/// The application's database.
#[derive(Debug, Clone, Default)]
pub struct Database(Arc<Inner>);

impl Database {
    /// Whether it is away from now on.
    pub fn set_away(&self, away: bool) {
        self.0.is_away.store(away, Ordering::SeqCst);
    }

    /// How often it was read.
    pub fn reads(&self) -> u64 {
        self.0.reads.load(Ordering::SeqCst)
    }

    /// Reads a board; `None` for an unknown harbor.
    ///
    /// # Errors
    /// [`DatabaseError`].
    pub async fn board(&self, harbor: &str) -> Result<Option<Board>, DatabaseError> {
        self.0.reads.fetch_add(1, Ordering::SeqCst);
        self.answers()?;
        let boards = self.0.boards.lock().unwrap_or_else(PoisonError::into_inner);
        let sailings = boards.get(harbor).cloned();
        Ok(sailings.map(|sailings| Board { harbor: harbor.to_owned(), sailings }))
    }

    /// Adds a sailing to a harbor's board.
    ///
    /// # Errors
    /// [`DatabaseError`].
    pub async fn add_sailing(&self, harbor: &str, sailing: &str) -> Result<(), DatabaseError> {
        self.answers()?;
        let mut boards = self.0.boards.lock().unwrap_or_else(PoisonError::into_inner);
        boards.entry(harbor.to_owned()).or_default().push(sailing.to_owned());
        Ok(())
    }

    fn answers(&self) -> Result<(), DatabaseError> {
        match self.0.is_away.load(Ordering::SeqCst) {
            true => Err(DatabaseError),
            false => Ok(()),
        }
    }
}
