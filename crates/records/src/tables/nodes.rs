//! Nodes, and which of them owns the share of the keys.

use std::fmt;
use std::str::FromStr;

use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Binary, Bool, Integer, Nullable, Text, Unsigned};
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl, SimpleAsyncConnection};
use serde::{Deserialize, Serialize};
use verax_core::Timestamp;

use crate::connection::Records;
use crate::error::RecordsError;

/// The only share.
pub(crate) const SHARE: u8 = 0;

/// The maximum number of nodes that are away, kept so that a missing one shows.
const MAX_AWAY: usize = 8;

/// The identifier of a node. It belongs to the node's data directory, so a restart keeps it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct NodeId([u8; 16]);

impl NodeId {
    /// A new one.
    pub fn random() -> Self {
        Self(rand::random())
    }

    pub(crate) fn bytes(&self) -> &[u8] {
        &self.0
    }

    fn read(bytes: &[u8]) -> Result<Self, RecordsError> {
        let read = <[u8; 16]>::try_from(bytes).map(Self);
        read.map_err(|_| RecordsError::Unreadable("the identity of a node".into()))
    }
}

impl fmt::Display for NodeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

/// A text that is not a node identifier.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the identity of a node has 32 hexadecimal digits")]
pub struct InvalidNodeId;

impl FromStr for NodeId {
    type Err = InvalidNodeId;

    fn from_str(text: &str) -> Result<Self, InvalidNodeId> {
        if text.len() != 32 || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(InvalidNodeId);
        }
        let number = u128::from_str_radix(text, 16).map_err(|_| InvalidNodeId)?;
        Ok(Self(number.to_be_bytes()))
    }
}

impl From<NodeId> for String {
    fn from(id: NodeId) -> Self {
        id.to_string()
    }
}

impl TryFrom<String> for NodeId {
    type Error = InvalidNodeId;

    fn try_from(text: String) -> Result<Self, InvalidNodeId> {
        text.parse()
    }
}

/// A node as it registers itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Node {
    /// Its identifier.
    pub id: NodeId,
    /// The URL where clients reach it over HTTP; empty if unknown.
    pub http: String,
    /// The address where clients reach it over the wire; empty if unknown.
    pub wire: String,
    /// Its version of Verax.
    pub version: String,
}

/// The current role of a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum NodeState {
    /// Active: it owns the share and serves.
    Active,
    /// Standby: it waits for the share.
    Standby,
    /// Away: it has no connection to MariaDB.
    Away,
}

/// The nodes, and the owner of the share.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Topology {
    /// The revision of the topology.
    pub revision: u64,
    /// The share's latest owner; `None` if it released the share, or there was none.
    pub owner: Option<NodeId>,
    /// The epoch of that owner.
    pub epoch: u32,
    /// Counts the owner's heartbeats, sent while there is a standby.
    pub confirmations: u64,
    /// The nodes, in the order they joined.
    pub nodes: Vec<(Node, NodeState)>,
}

impl Topology {
    /// The active node.
    pub fn active(&self) -> Option<&Node> {
        self.nodes.iter().find(|(_, state)| *state == NodeState::Active).map(|(node, _)| node)
    }

    /// The number of nodes in a state.
    pub fn count(&self, what: NodeState) -> u32 {
        let count = self.nodes.iter().filter(|(_, state)| *state == what).count();
        u32::try_from(count).unwrap_or(u32::MAX)
    }
}

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

impl Records {
    /// The nodes, and the owner of the share.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`], [`RecordsError::Unreadable`].
    pub async fn topology(&self) -> Result<Topology, RecordsError> {
        self.exchange(async |connection| load(connection).await).await
    }

    /// Registers a node, or updates it. Of nodes that are away, the latest are kept.
    ///
    /// # Errors
    /// [`RecordsError::Unavailable`].
    pub async fn register(&self, node: &Node, now: Timestamp) -> Result<(), RecordsError> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identities_round_trip() {
        let id = NodeId::random();
        assert_eq!(id.to_string().parse(), Ok(id));
        let short = &id.to_string()[1..];
        for wrong in ["", short, &format!("{short}g"), &format!("{id}0"), &format!("+{short}")] {
            assert_eq!(wrong.parse::<NodeId>(), Err(InvalidNodeId), "{wrong:?}");
        }
    }
}
