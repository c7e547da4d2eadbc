//! What this node knows about itself and the others.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use tokio::sync::{Mutex, watch};
use tokio::time::Instant;
use verax_records::{Membership, Node, Topology};

/// A standby without a response for this long counts as away.
const AWAY_AFTER: Duration = Duration::from_millis(2_500);

/// A node's role.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Active: it serves.
    Active,
    /// Standby: it waits to take over.
    Standby,
}

impl Role {
    /// Its name in the API.
    pub fn name(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Standby => "standby",
        }
    }
}

/// What this node knows about itself and the others.
#[derive(Debug)]
pub(crate) struct Nodes {
    /// `None` if no other node uses the records: always active.
    pub(super) node: Option<Node>,
    pub(super) standby: AtomicBool,
    pub(super) role: watch::Sender<Role>,
    topology: RwLock<Arc<Topology>>,
    /// Until when changes may be made, in milliseconds; `u64::MAX` for no limit.
    pub(super) confirmed_until: AtomicU64,
    /// Whether a new epoch must begin.
    pub(super) epoch_wanted: AtomicBool,
    pub(super) session: Mutex<Session>,
}

/// The node's connection to MariaDB, and what it has observed of the owner.
#[derive(Debug, Default)]
pub(super) struct Session {
    pub(super) membership: Option<Membership>,
    /// When MariaDB last responded, and since when without interruption.
    pub(super) answered: Option<(Instant, Instant)>,
    /// The owner's latest heartbeat, and when it was seen at the latest.
    pub(super) seen: Option<(Topology, Instant)>,
    /// Whether the owner sent one since this node registered, and therefore knows of it.
    pub(super) known_to_owner: bool,
}

impl Session {
    /// Notes that MariaDB responded.
    pub(super) fn note_answer(&mut self) {
        let now = Instant::now();
        let since = match self.answered {
            Some((last, since)) if now - last < AWAY_AFTER => since,
            _ => now,
        };
        self.answered = Some((now, since));
    }

    /// Notes what the records say about the owner.
    pub(super) fn observe(&mut self, topology: &Topology) {
        let sign = |t: &Topology| (t.owner, t.epoch, t.confirmations);
        match &self.seen {
            Some((seen, _)) if sign(seen) == sign(topology) => {}
            before => {
                self.known_to_owner |= before.is_some();
                self.seen = Some((topology.clone(), Instant::now()));
            }
        }
    }
}

impl Nodes {
    pub(crate) fn new(node: Option<Node>) -> Self {
        Self {
            node,
            standby: AtomicBool::new(false),
            role: watch::Sender::new(Role::Active),
            topology: RwLock::default(),
            confirmed_until: AtomicU64::new(u64::MAX),
            epoch_wanted: AtomicBool::new(false),
            session: Mutex::default(),
        }
    }

    /// Whether other nodes may use the same records.
    pub(crate) fn shared(&self) -> bool {
        self.node.is_some()
    }

    pub(super) fn set_role(&self, role: Role) {
        self.standby.store(role == Role::Standby, Ordering::Release);
        self.role.send_if_modified(|was| std::mem::replace(was, role) != role);
    }

    pub(crate) fn set_topology(&self, topology: Topology) {
        *self.topology.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(topology);
    }

    pub(crate) fn topology(&self) -> Arc<Topology> {
        Arc::clone(&self.topology.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Requests a new epoch at the next confirmation.
    pub(crate) fn want_epoch(&self) {
        self.epoch_wanted.store(true, Ordering::Release);
    }

    /// The role of a start while MariaDB is away, by the last known state: if this node was not the
    /// owner, another may be serving.
    pub(crate) fn role_without_records(&self, known: &Topology) -> Option<Role> {
        let node = self.node.as_ref()?;
        let elsewhere = known.owner.is_some_and(|owner| owner != node.id)
            || (known.owner.is_none() && known.nodes.iter().any(|(other, _)| other.id != node.id));
        self.set_topology(known.clone());
        Some(if elsewhere { Role::Standby } else { Role::Active })
    }
}
