//! The scenario of Verax's demo: a made-up coastal ferry network.
//!
//! * [`data`] generates harbors, sailings and gauge readings from a seed and loads them into
//!   MariaDB.
//! * [`queries`] are the slow reads over them: real SQL, no artificial delay.
//! * [`stand_in`] serves the queries as the origin, with faults that can be set while it runs.
//! * [`reader`] is the database user that may read them, for an origin that is a query.
//! * [`setup`] creates the tenants, origins and namespaces through Verax's own interface.
//! * [`plans`] creates its warm plans and schedules.
//! * [`traffic`] runs a few application instances with gentle traffic while the demo runs.
//! * [`berth_desks`] are two instances that refill a namespace without an origin.
//! * [`drills`] run with and without Verax's guarantees.
//! * [`profiles`] are the load profiles that ship with it.
//!
//! ```
//! let names: Vec<String> = verax_demo::data::harbors().into_iter().map(|h| h.slug).collect();
//! assert_eq!((names.len(), names[0].as_str()), (48, "aldermouth"));
//! ```

pub mod berth_desks;
pub mod data;
pub mod drills;
mod error;
pub mod plans;
pub mod profiles;
pub mod queries;
pub mod reader;
pub mod setup;
pub mod stand_in;
pub mod traffic;

pub use error::DemoError;
