//! Scopes of tokens, which end with the tenant or namespace they open.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use verax_core::Timestamp;

use crate::error::RecordsError;
use crate::mariadb::schema::tokens;
use crate::model::scopes_without;

/// Removes the scopes of a deleted `TENANT` or `TENANT/NAMESPACE` from all tokens. A token without
/// remaining scopes is revoked.
pub(super) async fn withdraw_scopes(
    connection: &mut AsyncMysqlConnection,
    place: &str,
    now: Timestamp,
) -> Result<(), RecordsError> {
    let open: Vec<(u64, String)> = tokens::table
        .filter(tokens::revoked_at.is_null())
        .select((tokens::id, tokens::scopes))
        .for_update()
        .load(connection)
        .await?;
    for (id, scopes) in open {
        let Some(kept) = scopes_without(&scopes, place) else { continue };
        let revoked_at = kept.is_empty().then(|| now.as_millis());
        diesel::update(tokens::table.find(id))
            .set((tokens::scopes.eq(kept), tokens::revoked_at.eq(revoked_at)))
            .execute(connection)
            .await?;
    }
    Ok(())
}
