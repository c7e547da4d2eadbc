//! Changes: the one write path of the records.
//!
//! A change is one transaction. It first increments the records' revision, whose row it locks until
//! it ends, so changes are serialized and each has its own revision. It checks that its node still
//! owns the share of the keys (see [`membership`](super::membership)), writes the rows, and last
//! the activity that says who changed what, under a random change id.
//!
//! When the response to COMMIT is lost, the outcome is unknown. Reading the change log determines
//! it: the query locks the revision's row, so it runs after the transaction has ended, however late
//! that is.

use std::time::Duration;

use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl, TransactionManager};
use verax_core::Timestamp;

use crate::changed::Changed;
use crate::error::RecordsError;
use crate::mariadb::connection::{EXCHANGE_TIMEOUT, MariaDb};
use crate::mariadb::schema::{activity, revisions, shares};
use crate::mariadb::tables::{SHARE, write_activity};
use crate::model::{Actor, Change};

/// The delay before an unknown outcome is queried again.
const ASK_AGAIN_AFTER: Duration = Duration::from_millis(250);

/// The row of `revisions` that counts changes.
const ROW: u8 = 1;

type Transactions = <AsyncMysqlConnection as AsyncConnection>::TransactionManager;

/// Reads the records' revision and locks it until the transaction ends.
pub(crate) async fn locked_revision(connection: &mut AsyncMysqlConnection) -> Result<u64, Error> {
    revisions::table.find(ROW).select(revisions::number).for_update().first(connection).await
}

pub(crate) async fn revision(connection: &mut AsyncMysqlConnection) -> Result<u64, RecordsError> {
    Ok(revisions::table.find(ROW).select(revisions::number).first(connection).await?)
}

impl MariaDb {
    /// Makes a change: `make` writes the rows and returns the activity.
    ///
    /// Returns only when the outcome is known, however long that takes; a caller that cannot wait
    /// drops the call, and finds the outcome in the records later.
    ///
    /// # Errors
    /// Errors of `make`; [`RecordsError::Unavailable`] if nothing was changed.
    pub(crate) async fn change<R>(
        &self,
        actor: &Actor,
        now: Timestamp,
        make: impl AsyncFnOnce(&mut AsyncMysqlConnection) -> Result<(R, Change), RecordsError>,
    ) -> Result<Changed<R>, RecordsError> {
        let id: [u8; 16] = rand::random();
        let mut lent = self.lend().await?;
        let connection = lent.connection()?;
        let made = async {
            Transactions::begin_transaction(connection).await?;
            let revision = locked_revision(connection).await? + 1;
            self.check_owner(connection).await?;
            diesel::update(revisions::table.find(ROW))
                .set(revisions::number.eq(revision))
                .execute(connection)
                .await?;
            let (value, change) = make(connection).await?;
            write_activity(connection, actor, now, &change, Some(&id)).await?;
            Ok(Changed { value, revision })
        };
        let made = tokio::time::timeout(EXCHANGE_TIMEOUT, made).await;
        let changed = match made {
            Ok(Ok(changed)) => changed,
            // Without a COMMIT, closing the connection rolls back.
            Ok(Err(error)) => return Err(error),
            Err(_) => {
                let seconds = EXCHANGE_TIMEOUT.as_secs();
                return Err(RecordsError::Unavailable(format!(
                    "no answer within {seconds} seconds"
                )));
            }
        };
        let committing = Transactions::commit_transaction(lent.connection()?);
        match tokio::time::timeout(EXCHANGE_TIMEOUT, committing).await {
            Ok(Ok(())) => {
                lent.give_back();
                Ok(changed)
            }
            unknown => {
                tracing::warn!(
                    ?unknown,
                    "MariaDB did not confirm a change: reading the outcome back"
                );
                drop(lent);
                match self.outcome(&id).await {
                    true => Ok(changed),
                    false => Err(RecordsError::Unavailable("the change was rolled back".into())),
                }
            }
        }
    }

    /// Checks that this node still owns the share of the keys, if this is a node's handle. The
    /// revision must be locked, so that the result holds until the transaction ends. The share's
    /// row is not locked: the owner confirms its lease there at the same time.
    pub(crate) async fn check_owner(
        &self,
        connection: &mut AsyncMysqlConnection,
    ) -> Result<(), RecordsError> {
        let owned = self.owned_epoch();
        if owned == 0 {
            return Ok(());
        }
        let share = shares::table.find(SHARE).select((shares::owner.is_not_null(), shares::epoch));
        let share = share.first::<(bool, u32)>(connection).await?;
        if share == (true, owned) { Ok(()) } else { Err(RecordsError::NotOwner) }
    }

    /// Whether the change with an id was committed; waits until MariaDB can tell.
    async fn outcome(&self, id: &[u8; 16]) -> bool {
        loop {
            let found = self
                .exchange(async |connection| {
                    Transactions::begin_transaction(connection).await?;
                    // Waits for the change's transaction, if it has not ended yet.
                    locked_revision(connection).await?;
                    let found = activity::table
                        .filter(activity::change_id.eq(&id[..]))
                        .select(activity::id)
                        .first::<u64>(connection)
                        .await
                        .optional()?;
                    Transactions::rollback_transaction(connection).await?;
                    Ok(found.is_some())
                })
                .await;
            match found {
                Ok(found) => return found,
                Err(_) => tokio::time::sleep(ASK_AGAIN_AFTER).await,
            }
        }
    }

    /// The records' revision: the number of changes.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn revision(&self) -> Result<u64, RecordsError> {
        self.exchange(async |connection| revision(connection).await).await
    }
}
