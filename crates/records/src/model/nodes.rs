//! Nodes, and which of them owns the share of the keys.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::error::RecordsError;

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

    pub(crate) fn read(bytes: &[u8]) -> Result<Self, RecordsError> {
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
