//! Identifiers that must not be reused after the records were rolled back to an earlier state.

use diesel_async::SimpleAsyncConnection;

use crate::connection::Records;
use crate::error::RecordsError;
use crate::snapshot::RecordsSnapshot;

/// The largest identifiers known to have been used. (Namespaces have random ones.)
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Identities {
    /// Of a tenant.
    pub tenant: u64,
    /// Of an origin.
    pub origin: u64,
    /// Of a token.
    pub token: u64,
    /// Of a run.
    pub run: u64,
}

impl Identities {
    /// Those in a snapshot, which has no runs.
    pub fn of(snapshot: &RecordsSnapshot) -> Self {
        Self {
            tenant: snapshot.tenants.iter().map(|record| record.id).max().unwrap_or(0),
            origin: snapshot.origins.iter().map(|record| record.id).max().unwrap_or(0),
            token: snapshot.tokens.iter().map(|record| record.id).max().unwrap_or(0),
            run: 0,
        }
    }
}

impl Records {
    /// Makes sure that new identifiers are larger than all known ones.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn raise_identities(&self, known: &Identities) -> Result<(), RecordsError> {
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
