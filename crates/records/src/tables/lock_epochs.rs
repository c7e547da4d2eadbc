//! Epochs of fencing tokens.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use verax_core::Timestamp;

use super::new_id;
use crate::connection::{Records, bounded};
use crate::error::RecordsError;
use crate::schema::lock_epochs;

impl Records {
    /// An epoch that is larger than every one that was given before, whatever the clocks say.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]; then no epoch may be used.
    pub async fn next_lock_epoch(&self, now: Timestamp) -> Result<u32, RecordsError> {
        let records = self.clone();
        bounded(async move {
            let mut connection = records.connection().await?;
            diesel::insert_into(lock_epochs::table)
                .values(lock_epochs::begun_at.eq(now.as_millis()))
                .execute(&mut connection)
                .await?;
            let id = new_id(&mut connection).await?;
            let epoch = u32::try_from(id)
                .map_err(|_| RecordsError::Unavailable("the epochs of locks are used up".into()))?;
            // Only the latest is needed: the numbers go on from it.
            diesel::delete(lock_epochs::table.filter(lock_epochs::id.lt(epoch)))
                .execute(&mut connection)
                .await?;
            Ok(epoch)
        })
        .await
    }
}
