//! Two versions of an application at the same time, whose values have different forms.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use verax_client::{Cache, Outdated};

use crate::database::{Database, DatabaseError};

/// A departure as the new version knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Departure {
    /// When it leaves.
    pub time: String,
    /// Where it goes.
    pub to: String,
}

const MINUTE: Duration = Duration::from_secs(60);

/// The board as the old version reads it.
///
/// # Errors
/// [`DatabaseError`].
pub async fn old_board(
    boards: &Cache,
    database: &Database,
    harbor: &str,
) -> Result<Vec<String>, DatabaseError> {
    let entry = boards.entry(format!("board/{harbor}")).schema(1).max_age(MINUTE);
    let board = entry.get_or_refill(async || {
        Ok(database.board(harbor).await?.map(|board| board.sailings).unwrap_or_default())
    });
    Ok(board.await?.value)
}

/// The board as the new version reads it, in an entry of its own.
///
/// # Errors
/// [`DatabaseError`].
pub async fn new_board(
    boards: &Cache,
    database: &Database,
    harbor: &str,
) -> Result<Vec<Departure>, DatabaseError> {
    let departure = |sailing: &String| {
        let (time, to) = sailing.split_once(' ').unwrap_or((sailing, ""));
        Departure { time: time.to_owned(), to: to.to_owned() }
    };
    let entry = boards.entry(format!("board/{harbor}")).schema(2).max_age(MINUTE);
    let board = entry.get_or_refill(async || {
        let board = database.board(harbor).await?;
        Ok(board.iter().flat_map(|board| &board.sailings).map(departure).collect())
    });
    Ok(board.await?.value)
}

/// What a write by key outdates while both versions run: the entries of this version, and of the
/// ones before and after it.
pub fn outdated(harbor: &str) -> [Outdated; 4] {
    Outdated::schema(&format!("board/{harbor}"), 2)
}
