//! One file for each table: its rows, and the calls that read and change them.

mod activity;
mod columns;
mod lock_epochs;
pub(crate) mod namespaces;
pub(crate) mod nodes;
pub(crate) mod origins;
mod runs;
mod scopes;
mod tenant_ids;
pub(crate) mod tenants;
pub(crate) mod tokens;

pub use activity::{Activity, Actor, Change};
pub use namespaces::NamespaceRecord;
pub use nodes::{InvalidNodeId, Node, NodeId, NodeState, Topology};
pub use origins::OriginRecord;
pub use runs::{NewRun, RunKind, RunRecord, RunState};
pub use tenants::TenantRecord;
pub use tokens::TokenRecord;

pub(crate) use activity::write as write_activity;
pub(crate) use lock_epochs::next_epoch;
pub(crate) use nodes::{NODE_LOCK, SHARE, raise_topology};
