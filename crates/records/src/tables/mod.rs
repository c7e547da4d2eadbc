//! One file for each table: what its rows mean, and the calls that read and change them.

mod activity;
mod lock_epochs;
mod namespaces;
mod origins;
mod runs;
mod tenants;
mod tokens;

pub use activity::{Activity, Actor, Change};
pub use namespaces::NamespaceRecord;
pub use origins::OriginRecord;
pub use runs::{RunKind, RunRecord, RunState};
pub use tenants::TenantRecord;
pub use tokens::TokenRecord;

use diesel::dsl::select;
use diesel::result::Error;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use verax_core::Name;

use crate::error::RecordsError;
use crate::schema::last_insert_id;

async fn new_id(connection: &mut AsyncMysqlConnection) -> Result<u64, Error> {
    select(last_insert_id()).get_result(connection).await
}

fn read_name(text: String) -> Result<Name, RecordsError> {
    Name::new(text).map_err(|e| RecordsError::Unreadable(e.to_string()))
}

fn millis(time: std::time::Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}
