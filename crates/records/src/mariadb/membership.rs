//! Membership in the nodes that use the same records, and ownership of the share of the keys.
//!
//! Both are session locks in MariaDB (`GET_LOCK`), so they end with the node's connection, however
//! that ends: one lock announces the node, the other is the lease on the share. Ownership is also
//! recorded, with the owner's epoch, and every change of the records checks it: a node that has
//! lost the share changes nothing, even if it has not noticed.
//!
//! A standby that gets the lease cannot know whether the owner has ended or only lost its
//! connection. So the owner confirms the lease while there is a standby, and each confirmation is
//! valid for [`LEASE_VALIDITY`]: the owner grants nothing after it, the standby nothing before it
//! ends.

use std::time::Duration;

use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Binary, Integer, Nullable, Text, TinyInt, Unsigned};
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};
use verax_core::Timestamp;

use crate::error::RecordsError;
use crate::mariadb::connection::{MariaDb, close, connect};
use crate::mariadb::tables::{NODE_LOCK, SHARE, next_epoch, raise_topology};
use crate::model::NodeId;

/// How long a confirmation of the lease is valid, from the moment it is requested.
pub const LEASE_VALIDITY: Duration = Duration::from_secs(3);

/// How long a node may be silent before MariaDB ends its session, in seconds: it may be dead.
const SILENCE_SECONDS: u32 = 3;

/// How long a start waits for MariaDB to notice the end of the node's earlier process.
const REJOIN_SECONDS: u32 = 4;

/// The timeout of a query about the membership.
const ANSWER_TIMEOUT: Duration = Duration::from_secs(2);

/// A node's membership, while this value and its connection live.
pub struct Membership {
    records: MariaDb,
    id: NodeId,
    connection: Option<AsyncMysqlConnection>,
}

impl std::fmt::Debug for Membership {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Membership").field("id", &self.id).finish_non_exhaustive()
    }
}

/// The share's ownership according to the records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ownership {
    /// This node owns it, with the epoch it has here.
    Ours,
    /// This node owns it with another epoch: the records were rolled back.
    OtherEpoch,
    /// Another node owns it, or has owned it since.
    Theirs,
}

#[derive(QueryableByName)]
struct Yes {
    #[diesel(sql_type = Integer)]
    yes: i32,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Owner {
    #[diesel(sql_type = Nullable<Binary>)]
    owner: Option<Vec<u8>>,
    #[diesel(sql_type = Unsigned<Integer>)]
    epoch: u32,
}

/// The lock on the share, as SQL.
fn share_lock() -> String {
    format!("CONCAT('verax.share.{SHARE}.', DATABASE())")
}

impl MariaDb {
    /// Joins as a node. Nothing is recorded: the tables may not exist yet.
    ///
    /// # Errors
    /// [`RecordsError::SameNode`] if another process has the same identifier,
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn join(&self, id: NodeId) -> Result<Membership, RecordsError> {
        // From here on the connection is closed with the membership.
        let connection = Some(connect(self.url()).await?);
        let mut membership = Membership { records: self.clone(), id, connection };
        let wait = Duration::from_secs(REJOIN_SECONDS.into());
        let joined = membership.ask(wait + ANSWER_TIMEOUT, async |connection| {
            let silence = format!("SET SESSION wait_timeout = {SILENCE_SECONDS}");
            connection.batch_execute(&silence).await?;
            let get = format!("SELECT GET_LOCK(CONCAT('verax.node.', ?), {REJOIN_SECONDS}) AS yes");
            let get = diesel::sql_query(get).bind::<Text, _>(id.to_string());
            Ok(get.get_result::<Yes>(connection).await?.yes == 1)
        });
        match joined.await? {
            true => Ok(membership),
            false => Err(RecordsError::SameNode(id.to_string())),
        }
    }

    /// Leaves in order, at the end of a node: releases the share if this node owns it, so that a
    /// standby need not wait for confirmations to expire, and deregisters the node. End the
    /// membership after this.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn leave(&self, id: NodeId) -> Result<(), RecordsError> {
        let epoch = self.owned_epoch();
        self.exchange(async |connection| {
            let left = connection.transaction(async |connection| {
                // After this, changes in progress find that the share has no owner.
                crate::mariadb::changes::locked_revision(connection).await?;
                raise_topology(connection).await?;
                diesel::sql_query(
                    "UPDATE shares SET owner = NULL WHERE id = ? AND owner = ? AND epoch = ?",
                )
                .bind::<Unsigned<TinyInt>, _>(SHARE)
                .bind::<Binary, _>(id.bytes())
                .bind::<Unsigned<Integer>, _>(epoch)
                .execute(connection)
                .await?;
                diesel::sql_query("DELETE FROM nodes WHERE id = ?")
                    .bind::<Binary, _>(id.bytes())
                    .execute(connection)
                    .await?;
                Ok::<_, diesel::result::Error>(())
            });
            Ok(left.await?)
        })
        .await
    }
}

impl Membership {
    /// Runs a query on the membership's connection. Without a response the connection is closed,
    /// and the node must join again.
    async fn ask<R>(
        &mut self,
        limit: Duration,
        question: impl AsyncFnOnce(&mut AsyncMysqlConnection) -> Result<R, RecordsError>,
    ) -> Result<R, RecordsError> {
        // Taken out, so that a dropped call does not leave a connection with a pending response
        // behind.
        let taken = self.connection.take();
        let mut connection = Closing(Some(
            taken.ok_or_else(|| RecordsError::Unavailable("the membership is over".into()))?,
        ));
        let Some(open) = connection.0.as_mut() else {
            return Err(RecordsError::Unavailable("the membership is over".into()));
        };
        match tokio::time::timeout(limit, question(open)).await {
            Ok(Ok(answer)) => {
                self.connection = connection.0.take();
                Ok(answer)
            }
            Ok(Err(error)) => Err(error),
            Err(_) => Err(RecordsError::Unavailable("no answer about the lease in time".into())),
        }
    }

    /// Whether its connection is still open, as far as known.
    pub fn is_open(&self) -> bool {
        self.connection.is_some()
    }

    /// Whether this node has the lease on the share.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]: the membership is over then.
    pub async fn has_lease(&mut self) -> Result<bool, RecordsError> {
        let ask = format!("SELECT IS_USED_LOCK({}) <=> CONNECTION_ID() AS yes", share_lock());
        self.ask(ANSWER_TIMEOUT, async |connection| {
            Ok(diesel::sql_query(ask).get_result::<Yes>(connection).await?.yes == 1)
        })
        .await
    }

    /// Acquires the lease on the share, waiting some seconds while another node has it; returns
    /// whether this node has it now.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]: the membership is over then.
    pub async fn acquire_lease(&mut self, wait: Duration) -> Result<bool, RecordsError> {
        let get = format!("SELECT GET_LOCK({}, {}) AS yes", share_lock(), wait.as_secs());
        self.ask(wait + ANSWER_TIMEOUT, async |connection| {
            Ok(diesel::sql_query(get).get_result::<Yes>(connection).await?.yes == 1)
        })
        .await
    }

    /// The number of other nodes, which may take the lease if this one loses it.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]: the membership is over then.
    pub async fn standbys(&mut self) -> Result<u64, RecordsError> {
        let (id, ask) = (
            self.id,
            format!(
                "SELECT COUNT(*) AS count FROM nodes WHERE id <> ? AND IS_USED_LOCK({NODE_LOCK}) IS NOT NULL"
            ),
        );
        self.ask(ANSWER_TIMEOUT, async |connection| {
            let ask = diesel::sql_query(ask).bind::<Binary, _>(id.bytes());
            let count = ask.get_result::<Count>(connection).await?.count;
            Ok(count.unsigned_abs())
        })
        .await
    }

    /// Sends a heartbeat to the standbys, which makes the lease valid for [`LEASE_VALIDITY`] from
    /// the moment of this call; returns whether this node still owns the share according to the
    /// records.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]: the membership is over then.
    pub async fn confirm(&mut self) -> Result<bool, RecordsError> {
        let (id, epoch) = (self.id, self.records.owned_epoch());
        let confirm = format!(
            "UPDATE shares SET confirmations = confirmations + 1 WHERE id = {SHARE} AND owner = ? \
             AND epoch = ? AND IS_USED_LOCK({}) = CONNECTION_ID()",
            share_lock()
        );
        self.ask(ANSWER_TIMEOUT, async |connection| {
            let confirm = diesel::sql_query(confirm)
                .bind::<Binary, _>(id.bytes())
                .bind::<Unsigned<Integer>, _>(epoch);
            Ok(confirm.execute(connection).await? == 1)
        })
        .await
    }

    /// The share's ownership according to the records.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`]: the membership is over then.
    pub async fn ownership(&mut self) -> Result<Ownership, RecordsError> {
        let (id, epoch) = (self.id, self.records.owned_epoch());
        let ask = format!("SELECT owner, epoch FROM shares WHERE id = {SHARE}");
        self.ask(ANSWER_TIMEOUT, async |connection| {
            let row: Owner = diesel::sql_query(ask).get_result(connection).await?;
            Ok(match row.owner.as_deref() == Some(id.bytes()) {
                true if row.epoch == epoch => Ownership::Ours,
                true => Ownership::OtherEpoch,
                false => Ownership::Theirs,
            })
        })
        .await
    }

    /// Begins an epoch as the owner of the share, which must have the lease. The epoch is larger
    /// than `known` and every earlier one. Changes of earlier owners happen before this or not at
    /// all.
    ///
    /// # Errors
    /// [`RecordsError::NotOwner`] without the lease, [`RecordsError::Unavailable`], which ends the
    /// membership.
    pub async fn begin_epoch(&mut self, known: u32, now: Timestamp) -> Result<u32, RecordsError> {
        let (id, has) = (self.id, self.has_lease().await?);
        if !has {
            return Err(RecordsError::NotOwner);
        }
        // On the connection with the lease: while it responds, the lease holds.
        let epoch = self
            .ask(crate::mariadb::connection::EXCHANGE_TIMEOUT, async |connection| {
                let begun = connection.transaction(async |connection| {
                    // Waits for changes in progress, as the next change waits for this.
                    crate::mariadb::changes::locked_revision(connection).await?;
                    let epoch = next_epoch(connection, known, now).await?;
                    raise_topology(connection).await?;
                    diesel::sql_query(
                        "INSERT INTO shares (id, owner, epoch, confirmations) VALUES (?, ?, ?, 1) \
                         ON DUPLICATE KEY UPDATE owner = VALUES(owner), epoch = VALUES(epoch), \
                         confirmations = confirmations + 1",
                    )
                    .bind::<Unsigned<TinyInt>, _>(SHARE)
                    .bind::<Binary, _>(id.bytes())
                    .bind::<Unsigned<Integer>, _>(epoch)
                    .execute(connection)
                    .await?;
                    Ok::<_, RecordsError>(epoch)
                });
                begun.await
            })
            .await?;
        self.records.set_owned_epoch(epoch);
        Ok(epoch)
    }
}

impl Drop for Membership {
    fn drop(&mut self) {
        self.connection.take().into_iter().for_each(close);
    }
}

/// A connection that is closed without a goodbye unless it is taken out.
struct Closing(Option<AsyncMysqlConnection>);

impl Drop for Closing {
    fn drop(&mut self) {
        self.0.take().into_iter().for_each(close);
    }
}
