//! Values for a variable from a listing of the origin.

use std::time::Instant;

use super::reader::HttpReader;
use crate::error::OriginError;

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
    /// It is not a JSON array of strings.
    #[error("the listing {reference:?} of the origin is not a JSON array of strings: {reason}")]
    Shape {
        /// The listing's reference.
        reference: String,
        /// What is wrong with it.
        reason: String,
    },
}

impl HttpReader {
    pub(crate) async fn read_listing(
        &self,
        reference: &str,
    ) -> Result<Vec<String>, InvalidListing> {
        if !self.listings.iter().any(|allowed| allowed == reference) {
            let (reference, allowed) = (reference.to_owned(), self.listings.clone());
            return Err(InvalidListing::NotAllowed { reference, allowed });
        }
        let url = self.url_on(reference)?;
        let answer = self.read_url(url, None, Instant::now() + self.total_timeout).await?;
        serde_json::from_slice(&answer.value).map_err(|e| InvalidListing::Shape {
            reference: reference.to_owned(),
            reason: e.to_string(),
        })
    }
}
