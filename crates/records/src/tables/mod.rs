//! One file for each table: what its rows mean, and the calls that read and change them.

mod activity;
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

use diesel::mysql::Mysql;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::result::QueryResult;
use diesel::sql_types::{BigInt, Unsigned};
use verax_core::Name;

use crate::error::RecordsError;

/// An INSERT that returns the identity of its row (`INSERT … RETURNING`, which MariaDB has and
/// Diesel's MySQL dialect does not know): identities come from the statement that made them, never
/// from a second question.
struct ReturningId<I>(I);

impl<I: QueryFragment<Mysql>> QueryFragment<Mysql> for ReturningId<I> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Mysql>) -> QueryResult<()> {
        self.0.walk_ast(out.reborrow())?;
        out.push_sql(" RETURNING `id`");
        Ok(())
    }
}

impl<I: QueryId> QueryId for ReturningId<I> {
    type QueryId = ReturningId<I::QueryId>;

    const HAS_STATIC_QUERY_ID: bool = I::HAS_STATIC_QUERY_ID;
}

impl<I> Query for ReturningId<I> {
    type SqlType = Unsigned<BigInt>;
}

fn read_name(text: String) -> Result<Name, RecordsError> {
    Name::new(text).map_err(|e| RecordsError::Unreadable(e.to_string()))
}

fn millis(time: std::time::Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}
