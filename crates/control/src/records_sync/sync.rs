//! Follows the records: changes by this process, and by others.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use futures_util::future::BoxFuture;
use tokio::sync::MutexGuard;
use verax_records::{Changed, Identities, Membership, Node, RecordsError, RecordsSnapshot};

use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::membership::{Role, while_present};

/// How often memory is compared with the records; also a heartbeat.
const COMPARE_EVERY: Duration = Duration::from_secs(1);

/// How long a change waits for earlier ones.
const QUEUE_TIMEOUT: Duration = Duration::from_secs(5);

/// How long a caller waits for the outcome of a change. The change itself continues.
const ANSWER_TIMEOUT: Duration = Duration::from_secs(15);

/// Compares memory with the records, logs when they become unavailable or available, loads what a
/// start without them could not, and keeps the snapshot file current.
pub(crate) async fn sync_loop(control: Arc<Control>) {
    let sync = &control.sync;
    loop {
        sync.look_at_disk();
        let answer = control.compare().await;
        let was = sync.available.swap(answer.is_ok(), Ordering::Relaxed);
        match answer {
            Err(error) if was => tracing::warn!(
                %error,
                "MariaDB does not answer: entries are served, but nothing can be created or changed"
            ),
            Ok(()) if !was => tracing::info!("MariaDB answers again"),
            _ => {}
        }
        tokio::select! {
            () = tokio::time::sleep(COMPARE_EVERY) => {}
            () = sync.changed.notified() => {}
        }
    }
}

impl Control {
    /// Runs an administrative change in a task of its own, after earlier ones: the change in the
    /// records and its effect in memory belong together, even if the caller goes away.
    ///
    /// # Errors
    /// Errors of the work; [`ControlError::RecordsUnavailable`] if its outcome is not known in
    /// time.
    pub(crate) async fn administer<R, W>(
        self: &Arc<Self>,
        work: impl FnOnce(Arc<Self>) -> W + Send + 'static,
    ) -> Result<R, ControlError>
    where
        R: Send + 'static,
        W: Future<Output = Result<R, ControlError>> + Send + 'static,
    {
        self.needs_confirmed_lease()?;
        if !self.sync.available() || !self.sync.is_loaded() {
            return Err(ControlError::RecordsUnavailable("MariaDB does not answer".into()));
        }
        let control = Arc::clone(self);
        let work = Box::pin(async move { work(control).await });
        let done = tokio::spawn(Arc::clone(self).in_order(work));
        match tokio::time::timeout(ANSWER_TIMEOUT, done).await {
            Ok(Ok(result)) => result,
            Ok(Err(error)) => {
                tracing::error!(%error, "an administrative task ended early");
                Err(ControlError::RecordsUnavailable("the change was abandoned".into()))
            }
            Err(_) => Err(ControlError::RecordsUnavailable(
                "MariaDB did not answer in time, so the change may or may not have been made: check before you repeat it"
                    .into(),
            )),
        }
    }

    /// Carries out a change after earlier ones. The work's own type is forgotten, so that a task is
    /// compiled for each kind of result and not for each change.
    async fn in_order<R>(
        self: Arc<Self>,
        work: BoxFuture<'static, Result<R, ControlError>>,
    ) -> Result<R, ControlError> {
        let order = self.sync.order.lock();
        let Ok(_order) = tokio::time::timeout(QUEUE_TIMEOUT, order).await else {
            return Err(ControlError::RecordsUnavailable(
                "an earlier change still waits for MariaDB".into(),
            ));
        };
        let result = work.await;
        self.sync.changed.notify_one();
        result
    }

    /// Applies the outcome of a change. If other changes came in between, memory is behind, and
    /// everything is read again right after.
    pub(crate) fn follow_change<R>(&self, changed: Changed<R>) -> R {
        let expected = changed.revision.wrapping_sub(1);
        // On failure memory keeps the older revision, and the sync loop detects the difference.
        let _ = self.sync.applied.compare_exchange(
            expected,
            changed.revision,
            Ordering::AcqRel,
            Ordering::Relaxed,
        );
        changed.value
    }

    /// Loads everything from the records, or from the snapshot's file while they are away.
    pub(crate) async fn load_or_snapshot(&self) -> Result<(), ControlError> {
        let Err(error) = self.first_load().await else { return Ok(()) };
        let away = || ControlError::RecordsUnavailable(error.to_string());
        if matches!(error, RecordsError::NewerSchema { .. } | RecordsError::SameNode(_)) {
            return Err(Conflict::Records(error).into());
        }
        if !matches!(error, RecordsError::Unavailable(_)) {
            return Err(away());
        }
        let path = self.sync.file.as_ref().ok_or_else(away)?;
        match RecordsSnapshot::read(path) {
            Ok(snapshot) => {
                tracing::warn!(
                    %error, snapshot = %path.display(),
                    "MariaDB does not answer: serving from a snapshot of the records; locks are refused, and nothing can be created or changed"
                );
                self.sync.available.store(false, Ordering::Relaxed);
                self.sync.applied.store(snapshot.revision, Ordering::Release);
                if let Some(role) = self.nodes.role_without_records(&snapshot.topology) {
                    self.set_role(role);
                }
                self.apply(&snapshot);
                Ok(())
            }
            Err(unread) => Err(ControlError::RecordsUnavailable(format!(
                "{error}; there is no snapshot of the records of an earlier start to begin with ({}: {unread})",
                path.display()
            ))),
        }
    }

    /// Loads everything from the records for the first time, as their owner or as a standby.
    async fn first_load(&self) -> Result<(), RecordsError> {
        if !self.nodes.shared() {
            let order = self.sync.order.lock().await;
            return self.load_in_order(&order, false).await;
        }
        self.membership_step().await?;
        if self.role() == Role::Standby {
            // Now as a standby.
            self.membership_step().await?;
            self.follow_records().await?;
        }
        Ok(())
    }

    /// Loads everything from the records as the owner of the share, which this node becomes.
    pub(crate) async fn load_as_owner(
        &self,
        node: &Node,
        membership: &mut Membership,
    ) -> Result<(), RecordsError> {
        let order = self.sync.order.lock().await;
        self.records.register(node, self.engine.now()).await?;
        // Before any read: from here on no earlier owner changes anything.
        self.begin_epoch_of(Some(membership)).await?;
        while_present(membership, self.load_in_order(&order, true)).await??;
        // A request received before another node was active may have stored its value since.
        if self.role() == Role::Standby {
            self.empty_all();
        }
        self.nodes.set_topology(self.records.topology().await?);
        Ok(())
    }

    /// Loads everything from the records, which no other node changes.
    async fn load_in_order(
        &self,
        order: &MutexGuard<'_, ()>,
        has_epoch: bool,
    ) -> Result<(), RecordsError> {
        self.records.prepare().await?;
        let unfinished = self.records.interrupt_runs(self.engine.now()).await?;
        self.sync.keep_unfinished(unfinished);
        let known = self.sync.file.as_ref().and_then(|path| RecordsSnapshot::read(path).ok());
        let snapshot = self.records.snapshot().await?;
        if let Some(known) = known.filter(|known| known.revision > snapshot.revision) {
            self.sync.applied.store(known.revision, Ordering::Release);
            self.restored(&known, &snapshot).await?;
        }
        self.follow_snapshot(order, snapshot).await;
        if !has_epoch {
            // Retried in the background if it fails.
            self.begin_lock_epoch().await;
        }
        Ok(())
    }

    /// Compares memory with the records once.
    async fn compare(&self) -> Result<(), RecordsError> {
        if self.sync.is_loaded() {
            return self.follow_records().await;
        }
        if !self.nodes.shared() {
            let order = self.sync.order.lock().await;
            return self.load_in_order(&order, false).await;
        }
        // An active node loads when it has the lease, a standby as soon as the tables exist.
        match self.role() {
            Role::Active => Err(RecordsError::Unavailable("they were not read yet".into())),
            Role::Standby if self.records.is_prepared().await? => self.follow_records().await,
            Role::Standby => Ok(()),
        }
    }

    /// Reads everything again if memory holds another revision than the records.
    async fn follow_records(&self) -> Result<(), RecordsError> {
        let revision = self.records.revision().await?;
        let topology = self.follow_topology().await?;
        let applied = self.sync.applied.load(Ordering::Acquire);
        if revision == applied
            && revision == self.sync.filed.load(Ordering::Relaxed)
            && topology == self.sync.filed_topology.load(Ordering::Relaxed)
            && self.sync.is_loaded()
        {
            return Ok(());
        }
        // A change in progress is compared next time.
        let Ok(order) = self.sync.order.try_lock() else { return Ok(()) };
        let snapshot = self.records.snapshot().await?;
        let applied = self.sync.applied.load(Ordering::Acquire);
        if snapshot.revision < applied && self.role() == Role::Active {
            let known = self.identities();
            tracing::error!(
                known_revision = applied,
                revision = snapshot.revision,
                "the records went back in time: a dump was restored; everything is reloaded, changes since the dump are lost, and locks continue with a new epoch"
            );
            self.records.raise_identities(&known).await?;
            if self.nodes.shared() {
                // By the membership, which may wait for the order lock held here.
                self.nodes.want_epoch();
            } else {
                self.begin_lock_epoch().await;
            }
        }
        self.follow_snapshot(&order, snapshot).await;
        Ok(())
    }

    /// Reads the nodes; returns the revision of the topology.
    async fn follow_topology(&self) -> Result<u64, RecordsError> {
        if !self.nodes.shared() {
            return Ok(self.sync.filed_topology.load(Ordering::Relaxed));
        }
        let topology = self.records.topology().await?;
        let revision = topology.revision;
        self.nodes.set_topology(topology);
        Ok(revision)
    }

    /// Logs that the records were rolled back while Verax was away, and makes sure that new
    /// identifiers are not confused with earlier ones.
    async fn restored(
        &self,
        known: &RecordsSnapshot,
        snapshot: &RecordsSnapshot,
    ) -> Result<(), RecordsError> {
        tracing::error!(
            known_revision = known.revision,
            revision = snapshot.revision,
            "the records are older than at the last start: a dump was restored, and changes since the dump are lost"
        );
        // The epoch that begins is larger than the one in the file.
        self.records.raise_identities(&Identities::of(known)).await
    }

    /// The largest identifiers in memory.
    fn identities(&self) -> Identities {
        let tenants = self.registry.read();
        let origins = tenants.values().flat_map(|t| t.origins.values());
        Identities {
            tenant: tenants.values().map(|t| t.id).max().unwrap_or(0),
            origin: origins.map(|(record, _)| record.id).max().unwrap_or(0),
            token: self.tokens.latest(),
            run: self.warm_runs.latest().max(self.load_runs.latest()).max(self.recordings.latest()),
        }
    }

    /// Applies a snapshot and saves it to the file. The order lock is held.
    async fn follow_snapshot(&self, _order: &MutexGuard<'_, ()>, snapshot: RecordsSnapshot) {
        if snapshot.revision != self.sync.applied.load(Ordering::Acquire) || !self.sync.is_loaded()
        {
            self.apply(&snapshot);
            self.sync.applied.store(snapshot.revision, Ordering::Release);
            self.sync.loaded.store(true, Ordering::Relaxed);
        }
        let (revision, topology) = (snapshot.revision, snapshot.topology.revision);
        let filed = || {
            self.sync.filed.store(revision, Ordering::Relaxed);
            self.sync.filed_topology.store(topology, Ordering::Relaxed);
        };
        let Some(path) = self.sync.file.clone() else { return filed() };
        let written = tokio::task::spawn_blocking(move || snapshot.write(&path)).await;
        match written {
            Ok(Ok(())) => filed(),
            failed => tracing::warn!(?failed, "the snapshot of the records was not written"),
        }
    }
}
