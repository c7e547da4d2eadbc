//! Identifiers that must not be reused after a dump was restored.

use diesel_async::SimpleAsyncConnection;

use super::connection::MariaDb;
use crate::error::RecordsError;
use crate::identities::Identities;

impl MariaDb {
    /// Makes sure that new identifiers are larger than all known ones.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn raise_identities(&self, known: &Identities) -> Result<(), RecordsError> {
        let Identities { tenant, origin, token, run } = *known;
        self.exchange(async |connection| {
            for (table, last) in
                [("tenants", tenant), ("origins", origin), ("tokens", token), ("runs", run)]
            {
                // InnoDB never lowers the counter below the rows that are there.
                let next = last.saturating_add(1);
                let raise = format!("ALTER TABLE {table} AUTO_INCREMENT = {next}");
                connection.batch_execute(&raise).await?;
            }
            Ok(())
        })
        .await
    }
}
