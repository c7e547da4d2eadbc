//! Listings of an origin: JSON arrays, page by page.

use std::time::Instant;

use serde_json::Value;
use url::Url;

use super::link::next_link;
use super::reader::HttpReader;
use crate::error::OriginError;

/// The most pages of a listing.
const MAX_PAGES: usize = 1_000;

/// Why a listing has no values.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidListing {
    /// The listing could not be read.
    #[error(transparent)]
    Origin(#[from] OriginError),
    /// Queries have no listings.
    #[error("the origin is a query, which has no listings: send the values themselves")]
    NoListings,
    /// The origin's settings do not allow it.
    #[error("the listing {reference:?} may not be read: {}", match .allowed.as_slice() { [] => "the origin's settings name none; have an administrator add it (verax origin change --listing)".to_owned(), allowed => format!("the origin's settings name {}", allowed.join(", ")) })]
    NotAllowed {
        /// The listing's reference.
        reference: String,
        /// The allowed listings.
        allowed: Vec<String>,
    },
    /// It is not a JSON array.
    #[error("the listing {reference:?} of the origin is not a JSON array: {reason}")]
    Shape {
        /// The listing's reference.
        reference: String,
        /// What is wrong with it.
        reason: String,
    },
    /// A next page elsewhere.
    #[error(
        "the listing {reference:?} names {next:?} as its next page, which is not the same listing"
    )]
    NextPage {
        /// The listing's reference.
        reference: String,
        /// The next page.
        next: String,
    },
    /// Too many pages or items.
    #[error("the listing {reference:?} has more than {most} items, or more than {MAX_PAGES} pages")]
    TooLong {
        /// The listing's reference.
        reference: String,
        /// The most items.
        most: usize,
    },
}

impl HttpReader {
    /// Reads the items of all pages. The next page is the one that a `Link` field names with the
    /// relation `next` (RFC 8288), of the same listing.
    pub(crate) async fn read_listing(
        &self,
        reference: &str,
        most: usize,
    ) -> Result<Vec<Value>, InvalidListing> {
        if !self.listings.iter().any(|allowed| allowed == reference) {
            let (reference, allowed) = (reference.to_owned(), self.listings.clone());
            return Err(InvalidListing::NotAllowed { reference, allowed });
        }
        let first = self.url_on(reference)?;
        let (mut items, mut url) = (Vec::new(), first.clone());
        let reference = || reference.to_owned();
        for _ in 0..MAX_PAGES {
            let deadline = Instant::now() + self.total_timeout;
            let page = self.read_page(url.clone(), None, deadline).await?;
            let read: Vec<Value> = serde_json::from_slice(&page.value.value).map_err(|e| {
                InvalidListing::Shape { reference: reference(), reason: e.to_string() }
            })?;
            if items.len() + read.len() > most {
                return Err(InvalidListing::TooLong { reference: reference(), most });
            }
            items.extend(read);
            let Some(next) = page.link.as_deref().and_then(next_link) else { return Ok(items) };
            url = same_listing(&first, &url, next).ok_or_else(|| InvalidListing::NextPage {
                reference: reference(),
                next: next.chars().take(200).collect(),
            })?;
        }
        Err(InvalidListing::TooLong { reference: reference(), most })
    }
}

/// A next page, if it has the server and the path of the first one: others may not be read.
fn same_listing(first: &Url, page: &Url, next: &str) -> Option<Url> {
    let next = page.join(next).ok()?;
    let same = next.origin() == first.origin() && next.path() == first.path();
    (same && next.username().is_empty() && next.password().is_none()).then_some(next)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("?page=2", Some("http://one.test/keys?page=2"))]
    #[case("/keys?page=2", Some("http://one.test/keys?page=2"))]
    #[case("http://one.test/keys?page=2", Some("http://one.test/keys?page=2"))]
    #[case("http://two.test/keys?page=2", None)]
    #[case("https://one.test/keys?page=2", None)]
    #[case("http://one.test:81/keys?page=2", None)]
    #[case("http://me@one.test/keys?page=2", None)]
    #[case("/secrets", None)]
    #[case("../keys/more", None)]
    fn a_next_page_is_of_the_same_listing(#[case] next: &str, #[case] expected: Option<&str>) {
        let first: Url = "http://one.test/keys".parse().unwrap();
        let found = same_listing(&first, &first, next);
        assert_eq!(found.as_ref().map(Url::as_str), expected);
    }
}
