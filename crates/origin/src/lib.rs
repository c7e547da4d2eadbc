//! Reading values from origins.
//!
//! An [`HttpOrigin`] turns the values of a key into a URL by an RFC 6570 template and reads it,
//! within a time and a size. [`standin`] puts faults into a small HTTP service, so that everything
//! that can go wrong with an origin can be shown and tested.
//!
//! ```
//! use verax_core::OriginSettings;
//! use verax_origin::HttpOrigin;
//!
//! let settings = OriginSettings::of("http://127.0.0.1:9/boards/{harbour}");
//! let origin = HttpOrigin::new(&settings)?;
//! let url = origin.url_of(&[("harbour", "Port Ulla")])?;
//! assert_eq!(url.as_str(), "http://127.0.0.1:9/boards/Port%20Ulla");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod error;
mod gate;
mod http;
mod listing;
pub mod standin;
mod template;

pub use error::OriginError;
pub use gate::GateState;
pub use http::{HttpOrigin, OriginValue, TraceContext};
pub use listing::InvalidListing;
pub use template::{InvalidTemplate, UrlTemplate};
