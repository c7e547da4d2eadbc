//! Epochs of fencing tokens.

use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use verax_core::Timestamp;

use super::columns::ReturningId;
use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::lock_epochs;

/// Begins an epoch larger than `known` and every earlier one.
pub(crate) async fn next_epoch(
    connection: &mut AsyncMysqlConnection,
    known: u32,
    now: Timestamp,
) -> Result<u32, RecordsError> {
    let used_up = || RecordsError::Unavailable("the lock epochs are used up".into());
    let row =
        diesel::insert_into(lock_epochs::table).values(lock_epochs::begun_at.eq(now.as_millis()));
    let id: u64 = ReturningId(row).get_result(connection).await?;
    let mut epoch = u32::try_from(id).map_err(|_| used_up())?;
    if epoch <= known {
        epoch = known.checked_add(1).ok_or_else(used_up)?;
        diesel::insert_into(lock_epochs::table)
            .values((lock_epochs::id.eq(epoch), lock_epochs::begun_at.eq(now.as_millis())))
            .execute(connection)
            .await?;
    }
    // Only the latest is needed: numbering continues from it.
    diesel::delete(lock_epochs::table.filter(lock_epochs::id.lt(epoch)))
        .execute(connection)
        .await?;
    Ok(epoch)
}

impl MariaDb {
    /// An epoch that is larger than `known` and than every one that was given before, whatever the
    /// clocks say. `known` is the latest the caller has used: a restored dump may not have it.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]; then no epoch may be used.
    pub(crate) async fn next_lock_epoch(
        &self,
        known: u32,
        now: Timestamp,
    ) -> Result<u32, RecordsError> {
        self.exchange(async |connection| next_epoch(connection, known, now).await).await
    }
}
