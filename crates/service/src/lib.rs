//! What Verax does, without how it is reached.
//!
//! [`Service`] ties the core to records and origins; it owns the clock, the timers and the
//! background tasks. Transports hold it in an `Arc` and turn requests into its calls.
//!
//! * [`access`] decides who may do what.
//! * [`cache`] reads, stores and refills entries.
//! * [`runs`] carries out warm runs and load runs.
//! * The rest creates and changes tenants, namespaces, origins and tokens, and samples what goes on.
//!
//! Every call that acts for somebody takes a [`Caller`](access::Caller), checks its scope first and
//! only then looks whether the thing exists, so that a refusal tells nothing about what does.
//! Entries are reached through [`Service::open`], which does both once for a namespace.
//!
//! ```
//! use verax_service::access::Scope;
//!
//! let held: Scope = "read:ferrydesk".parse()?;
//! assert!(held.covers(&"read:ferrydesk/boards".parse()?));
//! assert!(!held.covers(&"read:tideline/tables".parse()?));
//! # Ok::<(), verax_service::access::InvalidScope>(())
//! ```

pub mod access;
mod administration;
pub mod cache;
mod clock;
pub mod drills;
mod error;
mod hits;
mod live;
pub mod locks;
mod membership;
mod namespace;
mod origins;
mod records_sync;
mod registry;
pub mod runs;
mod service;
pub mod transit;
mod waiting;

pub use clock::Clock;
pub use error::{ServiceError, Subject};
pub use live::CounterReading;
pub use membership::Role;
pub use namespace::{Counters, Namespace};
pub use service::{Service, ServiceOptions};
pub use verax_origin::{OriginError, TraceContext};
pub use verax_records::{Node, NodeId, NodeState, Topology};
pub use waiting::{Placed, Waiting};
