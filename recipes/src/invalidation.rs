//! Writing to the database, and ending what the write outdates.

use verax_client::{Outdated, Written};

use crate::database::DatabaseError;
use crate::departure_service::Desk;

/// Adds a sailing. Every entry with the harbor's tag is outdated by it, whatever its key.
///
/// # Errors
/// [`DatabaseError`] if the write failed. [`Written::invalidated`] says whether the cache knows: an
/// invalidation that did not get through is delivered later, and until then this process reads no
/// copy that it may concern.
pub async fn add_sailing(
    desk: &Desk,
    harbor: &str,
    sailing: &str,
) -> Result<Written<()>, DatabaseError> {
    let outdated = [Outdated::tag(format!("harbor-{harbor}"))];
    desk.boards
        .write_and_invalidate(outdated, async || desk.database.add_sailing(harbor, sailing).await)
        .await
}
