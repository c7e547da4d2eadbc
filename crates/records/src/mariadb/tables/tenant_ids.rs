//! The identifiers of tenants, to which rows of other tables refer.

use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use verax_core::Name;

use crate::mariadb::schema::tenants;

/// The identifier of a tenant, within a transaction.
pub(super) async fn tenant_id(
    connection: &mut AsyncMysqlConnection,
    name: &Name,
) -> Result<u64, Error> {
    tenants::table
        .filter(tenants::name.eq(name.as_str()))
        .select(tenants::id)
        .first(connection)
        .await
}
