//! Reads values from origins, and writes them through.
//!
//! An [`Origin`] is an HTTP service, on one server or several replicas, or a query to a MariaDB. It
//! turns the values of a key into a URL (by an RFC 6570 template) or into the query's parameters,
//! and reads it within a timeout and a size limit. Its gate limits concurrent calls, opens the
//! circuits of failing servers, and has a retry budget; the state machines of the gate are in the
//! core. The secrets of origins come from the environment or from files, by name ([`Credentials`]).
//! [`standin`] adds faults to a small HTTP service, so that every failure of an origin can be shown
//! and tested.
//!
//! ```
//! use verax_core::OriginSettings;
//! use verax_origin::{Credentials, Origin};
//!
//! let settings = OriginSettings::http("http://127.0.0.1:9/boards/{harbor}");
//! let origin = Origin::new(&settings, &Credentials::default().into())?;
//! let url = origin.http().expect("an HTTP service").url_of(&[("harbor", "Port Ulla")])?;
//! assert_eq!(url.as_str(), "http://127.0.0.1:9/boards/Port%20Ulla");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod credentials;
mod error;
mod gate;
mod http;
mod origin;
mod sql;
pub mod standin;
mod state;
mod value;

pub use credentials::{CredentialError, Credentials, VARIABLE_PREFIX};
pub use error::OriginError;
pub use gate::SparePlace;
pub use http::template::{InvalidTemplate, UrlTemplate};
pub use http::{HttpReader, InvalidListing};
pub use origin::{InvalidOrigin, Origin};
pub use sql::InvalidQuery;
pub use state::{EndpointView, OriginState};
pub use value::{OriginValue, OriginWrite, TraceContext};
