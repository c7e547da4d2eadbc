//! An origin that is an HTTP service, on one server or on several that are alike.

mod listing;
mod reader;
pub(crate) mod template;

pub use listing::InvalidListing;
pub use reader::HttpReader;
