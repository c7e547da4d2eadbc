//! Many keys in one call: the boards of a page, of which some are missing.

use std::time::Duration;

use verax_client::{Cache, ClientError, PutMany, PutOptions};

use crate::database::{Board, Database, DatabaseError};

/// Why a page of boards could not be shown.
#[derive(Debug, Clone, thiserror::Error)]
pub enum PageError {
    /// The database did not answer.
    #[error(transparent)]
    Database(#[from] DatabaseError),
}

/// The boards of several harbors: one read of the cache for all, the database for those it lacks,
/// and one write for what was found there. Where the cache fails, the database serves.
///
/// # Errors
/// [`PageError`].
pub async fn boards_of(
    boards: &Cache,
    database: &Database,
    harbors: &[&str],
) -> Result<Vec<Board>, PageError> {
    let keys: Vec<String> = harbors.iter().map(|harbor| format!("page/{harbor}")).collect();
    let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
    let cached = match boards.get_many(&keys).await {
        Ok(cached) => cached,
        Err(error) => keys.iter().map(|_| Err::<_, ClientError>(error.clone())).collect(),
    };
    let (mut page, mut missing) = (Vec::new(), Vec::new());
    for ((harbor, key), hit) in harbors.iter().zip(&keys).zip(cached) {
        let value = hit.ok().flatten();
        let sailings = value.map(|hit| String::from_utf8_lossy(&hit.value).into_owned());
        let sailings = match sailings {
            Some(sailings) => sailings,
            None => {
                let read = database.board(harbor).await?;
                let sailings = read.map(|board| board.sailings.join("\n")).unwrap_or_default();
                let max_age = Some(Duration::from_secs(30));
                let options = PutOptions { max_age, ..PutOptions::default() };
                let value = sailings.clone().into();
                missing.push(PutMany { key: (*key).to_owned(), value, options });
                sailings
            }
        };
        let sailings = sailings.lines().map(str::to_owned).collect();
        page.push(Board { harbor: (*harbor).to_owned(), sailings });
    }
    if !missing.is_empty() {
        // Without it, the next page reads the database again.
        let _ = boards.put_many(&missing).await;
    }
    Ok(page)
}
