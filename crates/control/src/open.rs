//! Opens namespaces for callers: the one place where a scope becomes a handle.

use std::sync::Arc;

use verax_core::Name;
use verax_core::access::Right;
use verax_engine::cache::BatchAccess;
use verax_engine::events::{DamageRecord, LockEvent, RefillRecord};
use verax_engine::{Clearer, Deleter, Locker, Manager, Namespace, Reader, Refiller, Writer};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::membership::Role;

impl Control {
    /// A namespace in which the caller has the right `R`.
    fn open(
        &self,
        caller: &Caller,
        right: Right,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Arc<Namespace>, ControlError> {
        caller.needs_within(right, tenant, namespace)?;
        self.engine.needs_serving()?;
        Ok(Arc::clone(self.registry.namespace(tenant, namespace)?.namespace()))
    }

    /// Opens a namespace for reading.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn open_reader(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Reader, ControlError> {
        self.open(caller, Right::Read, tenant, namespace).map(Reader::open)
    }

    /// Opens a namespace for writing.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn open_writer(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Writer, ControlError> {
        self.open(caller, Right::Write, tenant, namespace).map(Writer::open)
    }

    /// Opens a namespace for deleting entries by key and by tag, with the right to write or to
    /// invalidate.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn open_deleter(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Deleter, ControlError> {
        let may_write = caller.holds_within(Right::Write, tenant.as_str(), namespace.as_str());
        let right = if may_write { Right::Write } else { Right::Invalidate };
        self.open(caller, right, tenant, namespace).map(Deleter::open)
    }

    /// Opens a namespace for clearing.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn open_clearer(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Clearer, ControlError> {
        self.open(caller, Right::Invalidate, tenant, namespace).map(Clearer::open)
    }

    /// Opens a namespace for locking.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn open_locker(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Locker, ControlError> {
        self.open(caller, Right::Lock, tenant, namespace).map(Locker::open)
    }

    /// Opens a namespace for refilling by permit, which reads and writes.
    ///
    /// # Errors
    /// [`ControlError`]: a scope, or the namespace.
    pub fn open_refiller(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Refiller, ControlError> {
        caller.needs_within(Right::Read, tenant, namespace)?;
        self.open(caller, Right::Write, tenant, namespace).map(Refiller::open)
    }

    /// Opens a namespace for management.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn open_manager(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Manager, ControlError> {
        self.open(caller, Right::Manage, tenant, namespace).map(Manager::open)
    }

    /// Opens a namespace for a batch, with the rights to read, to write and to delete, or some of
    /// them.
    ///
    /// # Errors
    /// [`ControlError`] when it can be opened with none of them.
    pub fn open_for_batch(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<BatchAccess<ControlError>, ControlError> {
        let reads = self.open_reader(caller, tenant, namespace);
        let writes = self.open_writer(caller, tenant, namespace);
        let deletes = self.open_deleter(caller, tenant, namespace);
        match (reads, writes, deletes) {
            (Err(error), Err(_), Err(_)) => Err(error),
            (reads, writes, deletes) => Ok(BatchAccess { reads, writes, deletes }),
        }
    }

    /// Opens a namespace for reading on the fast path of the transports; `None` if the token does
    /// not open it. [`open_reader`](Self::open_reader) tells why.
    pub fn reader_of(
        &self,
        token: &str,
        tenant: &str,
        namespace: &str,
    ) -> Option<(Arc<Caller>, Reader)> {
        (self.role() == Role::Active).then_some(())?;
        // Names are looked up only for callers that may know them, so that timing reveals nothing
        // to others.
        let caller = self.tokens.caller(token).ok()?;
        caller.holds_within(Right::Read, tenant, namespace).then_some(())?;
        let found = self.registry.find(tenant, namespace)?;
        Some((caller, Reader::open(Arc::clone(found.namespace()))))
    }

    /// A namespace in which a caller has a right, for what applies to every request: turns and
    /// quotas. No other caller uses them.
    pub fn namespace_of(
        &self,
        caller: &Caller,
        tenant: &str,
        namespace: &str,
    ) -> Option<Arc<Namespace>> {
        let may = |right| caller.holds_within(right, tenant, namespace);
        Right::ALL.into_iter().any(may).then_some(())?;
        Some(Arc::clone(self.registry.find(tenant, namespace)?.namespace()))
    }

    /// The latest refills of a namespace, newest first.
    pub fn recent_refills(&self, reader: &Reader) -> Vec<RefillRecord> {
        self.observatory.refills_of(reader.id())
    }

    /// The latest reports of damage in a namespace, newest first, and how many there were and
    /// removed an entry since the service started.
    pub fn damage_reports(&self, reader: &Reader) -> (Vec<DamageRecord>, u64, u64) {
        let found = self.registry.find(reader.tenant().as_str(), reader.name().as_str());
        let reading = found.map(|found| found.statistics().reading()).unwrap_or_default();
        let recent = self.observatory.damage_of(reader.id());
        (recent, reading.damage_reports, reading.damaged_removals)
    }

    /// The recent lock events of a namespace, newest first.
    pub fn recent_locks(&self, reader: &Reader) -> Vec<LockEvent> {
        self.observatory.lock_events_of(reader.id())
    }
}
