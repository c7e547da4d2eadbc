//! Scopes of tokens, which end with the tenant or namespace they open.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use verax_core::Timestamp;

use crate::error::RecordsError;
use crate::schema::tokens;

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
        let kept: Vec<&str> =
            scopes.split_whitespace().filter(|scope| !is_within(scope, place)).collect();
        if kept.len() == scopes.split_whitespace().count() {
            continue;
        }
        let revoked_at = kept.is_empty().then(|| now.as_millis());
        diesel::update(tokens::table.find(id))
            .set((tokens::scopes.eq(kept.join(" ")), tokens::revoked_at.eq(revoked_at)))
            .execute(connection)
            .await?;
    }
    Ok(())
}

/// Whether a scope, written `RIGHT:PLACE`, is within a place.
fn is_within(scope: &str, place: &str) -> bool {
    scope.split_once(':').is_some_and(|(_, opens)| {
        opens.strip_prefix(place).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::is_within;

    #[rstest]
    #[case("read:tideline", "tideline", true)]
    #[case("write:tideline/tables", "tideline", true)]
    #[case("write:tideline/tables", "tideline/tables", true)]
    #[case("read:tideline", "tideline/tables", false)]
    #[case("read:tideline-two", "tideline", false)]
    #[case("write:tideline/tables-two", "tideline/tables", false)]
    #[case("admin", "admin", false)]
    fn a_scope_ends_with_what_it_opens(
        #[case] scope: &str,
        #[case] place: &str,
        #[case] ends: bool,
    ) {
        assert_eq!(is_within(scope, place), ends);
    }
}
