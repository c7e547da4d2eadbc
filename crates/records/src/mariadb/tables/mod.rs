//! One file for each table: the calls that read and change its rows.

mod activity;
mod columns;
mod definitions;
mod hot_keys;
mod lock_epochs;
pub(crate) mod namespaces;
pub(crate) mod nodes;
pub(crate) mod origins;
mod run_work;
mod runs;
mod schedule_slots;
mod scopes;
mod tenant_ids;
pub(crate) mod tenants;
pub(crate) mod tokens;
mod usage;

pub(crate) use activity::write as write_activity;
pub(crate) use lock_epochs::next_epoch;
pub(crate) use nodes::{NODE_LOCK, SHARE, raise_topology};
