//! Maintains this node's membership: the lease while active, the wait for it while a standby.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use tokio::sync::watch;
use tokio::time::Instant;
use verax_core::Timestamp;
use verax_records::{LEASE_VALIDITY, Membership, Node, Ownership, RecordsError, Topology};

use super::nodes::{Role, Session};
use crate::control::Control;
use crate::error::ControlError;

/// How often the lease is confirmed, and a failed attempt to join is repeated.
const CONFIRM_EVERY: Duration = Duration::from_secs(1);

/// How long a standby waits for the lease at a time.
const LEASE_WAIT: Duration = Duration::from_secs(1);

/// How long a standby that MariaDB did not answer leaves the lease to an owner that did not release
/// it: both are reconnecting, and the one with the warm cache should continue.
const RETURN_GRACE: Duration = Duration::from_secs(3);

/// How long a shutdown waits for MariaDB.
const LEAVE_TIMEOUT: Duration = Duration::from_secs(1);

/// Maintains this node's membership: confirms the lease while it has it, otherwise waits for it.
pub(crate) async fn membership_loop(control: Arc<Control>) {
    let mut warned = false;
    loop {
        let step = control.membership_step().await;
        match &step {
            Err(error) if !warned => {
                tracing::warn!(%error, "the lease on the records is not confirmed");
                warned = true;
            }
            Err(_) => {}
            Ok(()) => warned = false,
        }
        // A standby that got a response has already waited.
        if step.is_err() || control.role() == Role::Active {
            tokio::time::sleep(CONFIRM_EVERY).await;
        }
    }
}

/// Runs long work with heartbeats on the membership's connection, whose session MariaDB ends when
/// idle. The work is abandoned if the lease is lost.
pub(crate) async fn while_present<R>(
    membership: &mut Membership,
    work: impl Future<Output = R>,
) -> Result<R, RecordsError> {
    let mut work = std::pin::pin!(work);
    loop {
        tokio::select! {
            done = &mut work => return Ok(done),
            () = tokio::time::sleep(CONFIRM_EVERY) => {
                if !membership.has_lease().await? {
                    return Err(RecordsError::NotOwner);
                }
            }
        }
    }
}

impl Control {
    /// This node's role.
    pub fn role(&self) -> Role {
        if self.nodes.standby.load(Ordering::Acquire) { Role::Standby } else { Role::Active }
    }

    /// Subscribes to this node's role.
    pub fn watch_role(&self) -> watch::Receiver<Role> {
        self.nodes.role.subscribe()
    }

    /// The nodes that use the same records, as of a second ago; empty for a single node.
    pub fn topology(&self) -> Arc<Topology> {
        self.nodes.topology()
    }

    /// This node's membership, if others may use the same records.
    pub fn node(&self) -> Option<&Node> {
        self.nodes.node.as_ref()
    }

    /// Fails if another node may be active by now.
    pub(crate) fn needs_confirmed_lease(&self) -> Result<(), ControlError> {
        self.engine.needs_serving()?;
        let until = self.nodes.confirmed_until.load(Ordering::Acquire);
        if self.engine.now() < Timestamp::from_millis(until) {
            return Ok(());
        }
        Err(ControlError::RecordsUnavailable(
            "there is a standby node, and MariaDB does not confirm that this node is still active"
                .into(),
        ))
    }

    pub(crate) fn set_role(&self, role: Role) {
        self.engine.set_serving(role == Role::Active);
        self.nodes.set_role(role);
    }

    /// Sets until when locks are granted and changes are made.
    fn confirm_until(&self, moment: Option<Timestamp>) {
        let millis = moment.map_or(u64::MAX, Timestamp::as_millis);
        self.nodes.confirmed_until.store(millis, Ordering::Release);
        self.engine.give_locks_until(moment);
    }

    /// One step of the [`membership_loop`]; also the first one, at the start.
    ///
    /// # Errors
    /// [`RecordsError`]; the role stays as it is.
    pub(crate) async fn membership_step(&self) -> Result<(), RecordsError> {
        let Some(node) = &self.nodes.node else { return Ok(()) };
        let mut session = self.nodes.session.lock().await;
        if session.membership.as_ref().is_none_or(|membership| !membership.is_open()) {
            let membership = Some(self.records.join(node.id).await?);
            // Earlier observations do not count: the owner may have forgotten this node.
            *session = Session { membership, ..Session::default() };
        }
        let Session { membership: Some(membership), .. } = &mut *session else { return Ok(()) };
        let mut has_lease = membership.has_lease().await?;
        session.note_answer();
        let leaves_lease = self.leaves_lease(node, &session);
        let Session { membership: Some(membership), .. } = &mut *session else { return Ok(()) };
        if !has_lease && leaves_lease {
            tokio::time::sleep(CONFIRM_EVERY / 2).await;
        } else if !has_lease {
            // A start must learn its role without delay.
            let wait = if self.sync.is_loaded() { LEASE_WAIT } else { Duration::ZERO };
            has_lease = membership.acquire_lease(wait).await?;
        }
        match (has_lease, self.role()) {
            (true, Role::Active) if self.sync.is_loaded() => self.confirm(&mut session).await,
            (true, _) => self.become_active(node, &mut session).await,
            (false, Role::Active) => {
                self.stand_by();
                Ok(())
            }
            (false, Role::Standby) => self.follow_owner(node, &mut session).await,
        }
    }

    /// Whether this node leaves the lease to the owner for now.
    fn leaves_lease(&self, node: &Node, session: &Session) -> bool {
        let just_back = session.answered.is_none_or(|(_, since)| since.elapsed() < RETURN_GRACE);
        let owner = self.nodes.topology().owner;
        self.role() == Role::Standby
            && self.sync.is_loaded()
            && just_back
            && owner.is_some_and(|owner| owner != node.id)
    }

    /// Confirms the lease as the active node.
    async fn confirm(&self, session: &mut Session) -> Result<(), RecordsError> {
        let Some(membership) = &mut session.membership else { return Ok(()) };
        if self.nodes.epoch_wanted.swap(false, Ordering::AcqRel) {
            self.begin_epoch_of(Some(membership)).await?;
        }
        let (began, standbys) = (self.engine.now(), membership.standbys().await?);
        if standbys == 0 {
            return match membership.ownership().await? {
                Ownership::Ours => {
                    self.confirm_until(None);
                    Ok(())
                }
                other => self.own_again(other, membership).await,
            };
        }
        // The limit comes first: a standby relies on the confirmation from the moment it sees it.
        if self.nodes.confirmed_until.load(Ordering::Acquire) == u64::MAX {
            self.confirm_until(Some(began + LEASE_VALIDITY));
        }
        let began = self.engine.now();
        if !membership.confirm().await? {
            let ownership = membership.ownership().await?;
            return self.own_again(ownership, membership).await;
        }
        self.confirm_until(Some(began + LEASE_VALIDITY));
        Ok(())
    }

    /// This node has the lease, but the records name another.
    async fn own_again(
        &self,
        ownership: Ownership,
        membership: &mut Membership,
    ) -> Result<(), RecordsError> {
        match ownership {
            Ownership::Ours => Ok(()),
            // A dump was restored: entries may stay, and fencing tokens continue above all granted
            // ones.
            Ownership::OtherEpoch => self.begin_epoch_of(Some(membership)).await,
            // Another node had it for a while. The next step takes over.
            Ownership::Theirs => {
                self.stand_by();
                Ok(())
            }
        }
    }

    /// Follows the owner as a standby, and registers so that the owner knows of it.
    async fn follow_owner(&self, node: &Node, session: &mut Session) -> Result<(), RecordsError> {
        // An earlier version may still be using the tables.
        if !self.records.is_prepared().await? {
            tokio::time::sleep(CONFIRM_EVERY).await;
            return Ok(());
        }
        self.records.register(node, self.engine.now()).await?;
        let topology = self.records.topology().await?;
        session.observe(&topology);
        self.nodes.set_topology(topology);
        Ok(())
    }

    /// Takes over with the lease, once no earlier owner can consider itself active.
    async fn become_active(&self, node: &Node, session: &mut Session) -> Result<(), RecordsError> {
        let Some(membership) = &mut session.membership else { return Ok(()) };
        // No other node changes the tables now.
        while_present(membership, self.records.prepare()).await??;
        let topology = self.records.topology().await?;
        session.observe(&topology);
        let seen_at = session.seen.as_ref().map_or_else(Instant::now, |(_, at)| *at);
        let other = topology.owner.filter(|owner| *owner != node.id);
        if let Some(owner) = other {
            if !session.known_to_owner {
                tracing::warn!(
                    %owner,
                    "the node that was active did not stop cleanly and may not know of this one: make sure that it is not running"
                );
            }
            // One round trip at a time, since MariaDB ends idle sessions.
            let until = seen_at + LEASE_VALIDITY;
            while Instant::now() < until {
                let step = Instant::now() + CONFIRM_EVERY / 2;
                tokio::time::sleep_until(step.min(until)).await;
                let Some(membership) = &mut session.membership else { return Ok(()) };
                if !membership.has_lease().await? {
                    return Ok(());
                }
            }
        }
        let Some(membership) = &mut session.membership else { return Ok(()) };
        let (was, began) = (self.role(), self.engine.now());
        self.load_as_owner(node, membership).await?;
        // Beginning the epoch was also a confirmation; without a standby, none is needed.
        let alone = membership.standbys().await? == 0;
        self.confirm_until((!alone).then(|| began + LEASE_VALIDITY));
        self.set_role(Role::Active);
        if was == Role::Standby {
            tracing::warn!(previous = ?other.map(|id| id.to_string()), "this node is active now");
        }
        Ok(())
    }

    /// Turns an active node into a standby, because another is active now.
    fn stand_by(&self) {
        self.set_role(Role::Standby);
        self.engine.end_all_locks();
        self.stop_runs();
        self.empty_all();
        self.access_changed();
        tracing::warn!("another node is active: this one is a standby and serves no entries");
    }

    /// Loses every entry of every namespace, as a cache may at any time; for tests.
    pub fn lose_entries(&self) {
        self.empty_all();
    }

    /// Empties every namespace: entries that another node invalidated must never be served.
    pub(crate) fn empty_all(&self) {
        for namespace in self.registry.namespaces() {
            self.engine.empty(namespace.namespace());
        }
    }

    /// Releases the lease and deregisters the node, so that a standby takes over without delay.
    pub async fn leave(&self) {
        let Some(node) = &self.nodes.node else { return };
        self.set_role(Role::Standby);
        self.engine.end_all_locks();
        let leaving = async {
            // The records are updated before the lease is released.
            let left = self.records.leave(node.id).await;
            self.nodes.session.lock().await.membership.take();
            left
        };
        match tokio::time::timeout(LEAVE_TIMEOUT, leaving).await {
            Ok(Ok(())) => {}
            failed => tracing::debug!(?failed, "the lease ends with its connection"),
        }
    }

    /// An epoch for the owner of the share.
    pub(crate) async fn next_epoch(&self, known: u32, now: Timestamp) -> Result<u32, RecordsError> {
        if !self.nodes.shared() {
            return self.records.next_lock_epoch(known, now).await;
        }
        match &mut self.nodes.session.lock().await.membership {
            Some(membership) => membership.begin_epoch(known, now).await,
            None => Err(RecordsError::NotOwner),
        }
    }
}
