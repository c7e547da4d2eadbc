//! The control plane of Verax: who may do what, what there is, and what is done in the background.
//!
//! [`Control`] keeps tenants, namespaces, origins and tokens in step with the records, and opens
//! [handles](verax_engine::Handle) on namespaces for callers that hold the right.
//!
//! * [`access`] knows tokens and console sessions.
//! * [`runs`] carries out warm runs, load runs and the demo's drills, with one lifecycle.
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
mod control;
mod epoch;
mod error;
mod expected;
pub mod limits;
mod live;
mod membership;
mod namespaces;
mod open;
mod options;
mod origins;
mod records_sync;
mod registry;
pub mod runs;
mod sessions;
mod start;
mod tenants;
mod tokens;
mod waiting;

pub use control::Control;
pub use error::{ControlError, Subject};
pub use expected::Expected;
pub use live::LiveView;
pub use membership::Role;
pub use namespaces::policy_tag;
pub use options::ControlOptions;
pub use origins::origin_tag;
pub use registry::Registered;
pub use sessions::session_of;
pub use tokens::{NOTE_LENGTHS, SCOPE_COUNTS};
pub use verax_records::{Node, NodeId, NodeState, Topology};
pub use waiting::{InNamespace, Waiting};
