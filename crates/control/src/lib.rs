//! The control plane of Verax: who may do what, what there is, and what is done in the background.
//!
//! [`Control`] keeps tenants, namespaces, origins and tokens in step with the records, and opens
//! [handles](verax_engine::Handle) on namespaces for callers that hold the right.
//!
//! * [`access`] knows tokens and console sessions.
//! * [`runs`] carries out warm runs and load runs, [`drills`] the demo's experiments.
//! * The rest creates and changes tenants, namespaces, origins and tokens, follows the records, and
//!   keeps this node's part among those that use the same records.
//!
//! Every call that acts for somebody takes a [`Caller`](access::Caller), checks its scope first and
//! only then looks whether the thing exists, so that a refusal tells nothing about what does.
//!
//! What may not live here: answering look-ups, HTTP, and the wire.
//!
//! ```
//! use verax_core::access::Scope;
//!
//! let held: Scope = "read:ferrydesk".parse()?;
//! assert!(held.covers(&"read:ferrydesk/boards".parse()?));
//! assert!(!held.covers(&"read:tideline/tables".parse()?));
//! # Ok::<(), verax_core::access::InvalidScope>(())
//! ```

pub mod access;
pub mod activity;
mod administration;
mod control;
pub mod drills;
mod epoch;
mod error;
mod expected;
pub mod limits;
mod live;
mod membership;
mod open;
mod origins;
mod records_sync;
mod registry;
pub mod runs;
mod waiting;

pub use administration::{NOTE_LENGTHS, SCOPE_COUNTS, policy_tag, session_of};
pub use control::{Control, ControlOptions};
pub use error::{ControlError, Subject};
pub use expected::Expected;
pub use live::LiveView;
pub use membership::Role;
pub use origins::origin_tag;
pub use registry::Registered;
pub use verax_records::{Node, NodeId, NodeState, Topology};
pub use waiting::{InNamespace, Waiting};
