//! The control plane of Verax: access, administration, and background runs.
//!
//! [`Control`] keeps tenants, namespaces, origins and tokens in step with the records, and opens
//! [handles](verax_engine::Handle) on namespaces for callers that hold the right.
//!
//! * [`access`] authenticates tokens and console sessions.
//! * [`runs`] runs warm runs, load runs and the demo's drills, with one lifecycle.
//! * The other modules administer tenants, namespaces, origins and tokens, follow the records, and
//!   maintain this node's membership in a pair.
//!
//! Every call on behalf of a caller takes a [`Caller`](access::Caller) and checks its scope before
//! it looks anything up, so that a refusal reveals nothing about what exists.
//!
//! Not here: serving reads, HTTP, and the wire protocol.
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
mod advice;
mod check;
mod control;
mod definitions;
mod epoch;
mod error;
mod expected;
mod heat;
mod invalid;
pub mod limits;
mod live;
mod membership;
mod memory;
mod namespaces;
mod open;
mod options;
mod origins;
mod quotas;
mod records_sync;
mod registry;
pub mod runs;
mod schedules;
mod sessions;
mod start;
mod subject;
mod tenants;
mod token_times;
mod tokens;
mod usage;
mod usage_counts;
mod waiting;
mod warm_plans;

pub use control::Control;
pub use error::{Conflict, ControlError, Overload};
pub use expected::Expected;
pub use invalid::{InvalidInput, Reserves};
pub use live::LiveView;
pub use membership::Role;
pub use namespaces::policy_tag;
pub use options::ControlOptions;
pub use origins::origin_tag;
pub use quotas::quota_tag;
pub use registry::Registered;
pub use schedules::schedule_tag;
pub use sessions::session_of;
pub use subject::Subject;
pub use tokens::{NOTE_LENGTHS, SCOPE_COUNTS};
pub use verax_records::{ActivityFilter, Node, NodeId, NodeState, Topology};
pub use waiting::{InNamespace, Waiting};
pub use warm_plans::{QUIET_SECONDS, WITHIN_SECONDS, plan_tag};
