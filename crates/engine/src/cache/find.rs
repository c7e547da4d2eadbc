//! Finds entries by what is in their JSON values.

use std::time::{Duration, Instant};

use verax_core::store::{EntryFilter, Position};
use verax_core::value_filter::{NotSearched, Selected, ValueFilter};

use super::entries::MAX_PAGE_ENTRIES;
use crate::error::{EngineError, InvalidInput, Overload};
use crate::handle::Reader;

/// The most entries that one step looks at.
const STEP: u64 = 10_000;

/// The most bytes of values that one step parses, beyond the last value.
const STEP_BYTES: usize = 16 << 20;

/// After this long, a step ends with what it has.
const STEP_TIME: Duration = Duration::from_millis(500);

/// The most entries of a page within a step: smaller than a page of a listing, because a step ends
/// between pages.
const PAGE: usize = 100;

/// How long a step waits for the searches before it.
const QUEUE_TIME: Duration = Duration::from_secs(5);

/// An entry that was found.
#[derive(Debug, Clone)]
pub struct FoundValue {
    /// Its key.
    pub key: String,
    /// The size of its value, in bytes.
    pub value_bytes: u64,
    /// What the query selected in it.
    pub selected: Selected,
}

/// A step of a search.
#[derive(Debug, Clone, Default)]
pub struct FindStep {
    /// How many entries were looked at.
    pub looked_at: u64,
    /// How many of them are no JSON, or negative entries.
    pub not_json: u64,
    /// How many of them are too large to be searched.
    pub too_large: u64,
    /// Those with a selected part.
    pub found: Vec<FoundValue>,
    /// Where the next step begins; `None` after the last.
    pub next: Option<Position>,
}

impl Reader {
    /// Searches the JSON values of some entries whose keys start with `prefix`, from a position on,
    /// until `most` were found. Only one search runs at a time, apart from the threads that serve.
    ///
    /// # Errors
    /// [`EngineError`]: `most` is out of range, or other searches take too long.
    pub async fn find(
        &self,
        prefix: &str,
        query: &ValueFilter,
        from: Position,
        most: usize,
    ) -> Result<FindStep, EngineError> {
        if !(1..=MAX_PAGE_ENTRIES).contains(&most) {
            return Err(InvalidInput::Page { entries: most, max: MAX_PAGE_ENTRIES }.into());
        }
        let searches = self.engine().searches();
        let turn = tokio::time::timeout(QUEUE_TIME, searches.acquire_owned()).await;
        let turn = turn.ok().and_then(Result::ok).ok_or(Overload::Searches)?;
        let (reader, prefix, query) = (self.clone(), prefix.to_owned(), query.clone());
        let step = tokio::task::spawn_blocking(move || {
            // A caller that is gone frees the turn only when the step has ended.
            let _turn = turn;
            reader.find_now(&prefix, &query, from, most)
        });
        step.await.map_err(|_| EngineError::from(Overload::Searches))
    }

    fn find_now(&self, prefix: &str, query: &ValueFilter, from: Position, most: usize) -> FindStep {
        let filter = EntryFilter::prefix(prefix);
        let mut step = FindStep { next: Some(from), ..FindStep::default() };
        let (mut bytes, started) = (0, Instant::now());
        while let Some(position) = step.next {
            let is_over = step.looked_at >= STEP
                || bytes >= STEP_BYTES
                || step.found.len() >= most
                || started.elapsed() >= STEP_TIME;
            if is_over {
                break;
            }
            let page = PAGE.min(most - step.found.len());
            let listing = self.partition().list(&filter, position, page, self.engine().now());
            for listed in listing.entries {
                step.looked_at += 1;
                let found = listed.found;
                match query.try_matches(found.value()) {
                    Err(NotSearched::TooLarge) => step.too_large += 1,
                    Err(NotSearched::NotJson) => step.not_json += 1,
                    Ok(None) => {}
                    Ok(Some(selected)) => step.found.push(FoundValue {
                        key: found.key().to_owned(),
                        value_bytes: found.value_length() as u64,
                        selected,
                    }),
                }
                bytes += found.value_length();
            }
            step.next = listing.next;
        }
        step
    }
}
