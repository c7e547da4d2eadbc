//! Nodes, and which of them owns the share of the keys.

use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Binary, Bool, Integer, Nullable, Text, Unsigned};
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};
use verax_core::Timestamp;

use crate::error::RecordsError;
use crate::mariadb::connection::MariaDb;
use crate::model::{Node, NodeId, NodeState, Topology};

/// The only share.
pub(crate) const SHARE: u8 = 0;

/// The maximum number of nodes that are away, kept so that a missing one shows.
const MAX_AWAY: usize = 8;

#[derive(QueryableByName)]
struct Head {
    #[diesel(sql_type = Unsigned<BigInt>)]
    revision: u64,
    #[diesel(sql_type = Nullable<Binary>)]
    owner: Option<Vec<u8>>,
    #[diesel(sql_type = Unsigned<Integer>)]
    epoch: u32,
    #[diesel(sql_type = Unsigned<BigInt>)]
    confirmations: u64,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Binary)]
    id: Vec<u8>,
    #[diesel(sql_type = Text)]
    http: String,
    #[diesel(sql_type = Text)]
    wire: String,
    #[diesel(sql_type = Text)]
    version: String,
    #[diesel(sql_type = Bool)]
    present: bool,
}

/// A node's lock, which announces it to MariaDB, as SQL over the column `id`.
pub(crate) const NODE_LOCK: &str = "CONCAT('verax.node.', LOWER(HEX(id)))";

pub(crate) async fn load(connection: &mut AsyncMysqlConnection) -> Result<Topology, RecordsError> {
    let head = format!(
        "SELECT (SELECT number FROM revisions WHERE id = 2) AS revision, owner, epoch, confirmations \
         FROM shares WHERE id = {SHARE}"
    );
    let head: Head = diesel::sql_query(head).get_result(connection).await?;
    let rows = format!(
        "SELECT id, http, wire, version, IS_USED_LOCK({NODE_LOCK}) IS NOT NULL AS present \
         FROM nodes ORDER BY joined_at, id"
    );
    let rows: Vec<Row> = diesel::sql_query(rows).load(connection).await?;
    let owner = head.owner.as_deref().map(NodeId::read).transpose()?;
    let nodes = rows.into_iter().map(|row| {
        let id = NodeId::read(&row.id)?;
        let state = match row.present {
            true if owner == Some(id) => NodeState::Active,
            true => NodeState::Standby,
            false => NodeState::Away,
        };
        Ok((Node { id, http: row.http, wire: row.wire, version: row.version }, state))
    });
    Ok(Topology {
        revision: head.revision,
        owner,
        epoch: head.epoch,
        confirmations: head.confirmations,
        nodes: nodes.collect::<Result<_, RecordsError>>()?,
    })
}

/// Counts a change of nodes or owners.
pub(crate) async fn raise_topology(
    connection: &mut AsyncMysqlConnection,
) -> Result<(), diesel::result::Error> {
    connection.batch_execute("UPDATE revisions SET number = number + 1 WHERE id = 2").await
}

impl MariaDb {
    /// The nodes, and the owner of the share.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub(crate) async fn topology(&self) -> Result<Topology, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// Registers a node, or updates it. Of nodes that are away, the latest are kept.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub(crate) async fn register(&self, node: &Node, now: Timestamp) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            let known = load(connection).await?;
            let away = known.nodes.iter().filter(|(_, state)| *state == NodeState::Away);
            let away: Vec<NodeId> = away.map(|(n, _)| n.id).filter(|id| *id != node.id).collect();
            let forgotten = &away[..away.len().saturating_sub(MAX_AWAY)];
            if forgotten.is_empty() && known.nodes.iter().any(|(known, _)| known == node) {
                return Ok(());
            }
            let registered = connection.transaction(async |connection| {
                // Counted first, so that concurrent registrations are serialized.
                raise_topology(connection).await?;
                diesel::sql_query(
                    "INSERT INTO nodes (id, http, wire, version, joined_at) VALUES (?, ?, ?, ?, ?) \
                     ON DUPLICATE KEY UPDATE http = VALUES(http), wire = VALUES(wire), \
                     version = VALUES(version)",
                )
                .bind::<Binary, _>(node.id.bytes())
                .bind::<Text, _>(&node.http)
                .bind::<Text, _>(&node.wire)
                .bind::<Text, _>(&node.version)
                .bind::<Unsigned<BigInt>, _>(now.as_millis())
                .execute(connection)
                .await?;
                for id in forgotten {
                    diesel::sql_query("DELETE FROM nodes WHERE id = ?")
                        .bind::<Binary, _>(id.bytes())
                        .execute(connection)
                        .await?;
                }
                Ok::<_, diesel::result::Error>(())
            });
            Ok(registered.await?)
        })
        .await
    }
}
