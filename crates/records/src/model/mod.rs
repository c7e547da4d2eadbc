//! What the records hold, apart from where they are kept.

mod activity;
mod definitions;
mod namespaces;
mod nodes;
mod origins;
mod runs;
mod scopes;
mod tenants;
mod tokens;
mod usage;

pub use activity::{Activity, ActivityFilter, Actor, Change};
pub use definitions::{
    DefinitionKind, DefinitionPath, DefinitionRecord, RunFailure, SlotRecord, SlotState,
};
pub use namespaces::NamespaceRecord;
pub use nodes::{InvalidNodeId, Node, NodeId, NodeState, Topology};
pub use origins::OriginRecord;
pub use runs::{NewRun, RunKind, RunRecord, RunState};
pub use tenants::TenantRecord;
pub use tokens::{NewToken, Rotated, TokenRecord};
pub use usage::{UsageOf, UsagePoint, UsageQuery, UsageSample};

pub(crate) use activity::difference;
pub(crate) use definitions::short;
pub(crate) use namespaces::{cap_of, namespace_change, new_namespace_id, policy_detail};
pub(crate) use origins::{ORIGIN_USED_BY, origin_change, settings_detail};
pub(crate) use scopes::scopes_without;
pub(crate) use tenants::{TENANT_USED_BY, quota_change, tenant_change};
pub(crate) use tokens::token_change;
