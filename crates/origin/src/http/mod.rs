//! An origin that is an HTTP service, on one server or several replicas.

mod link;
mod listing;
mod reader;
pub(crate) mod template;

pub use listing::InvalidListing;
pub use reader::HttpReader;
