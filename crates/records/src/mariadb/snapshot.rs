//! A consistent snapshot of the tables.

use diesel_async::SimpleAsyncConnection;

use super::changes::revision;
use super::connection::MariaDb;
use super::tables::{namespaces, nodes, origins, tenants, tokens};
use crate::error::RecordsError;
use crate::snapshot::RecordsSnapshot;

impl MariaDb {
    /// Reads a consistent snapshot of the records.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn snapshot(&self) -> Result<RecordsSnapshot, RecordsError> {
        self.exchange(async |connection| {
            // REPEATABLE READ: every query sees the state of the first one.
            connection.batch_execute("START TRANSACTION READ ONLY").await?;
            let snapshot = RecordsSnapshot {
                revision: revision(connection).await?,
                tenants: tenants::load(connection).await?,
                origins: origins::load(connection).await?,
                namespaces: namespaces::load(connection).await?,
                tokens: tokens::load(connection).await?,
                topology: nodes::load(connection).await?,
            };
            connection.batch_execute("COMMIT").await?;
            Ok(snapshot)
        })
        .await
    }
}
