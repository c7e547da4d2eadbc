//! Workers of other machines that have joined, to generate the load of runs.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use tokio::io::DuplexStream;
use tokio::sync::oneshot;
use verax_api::{JoinedWorker, moment};
use verax_core::Timestamp;
use verax_core::access::{Right, Scope};

use crate::access::Caller;
use crate::error::{ControlError, Overload};
use crate::registry::Registered;
use crate::runs::runner::JoinedGenerator;

/// The most workers that may have joined.
const MAX_JOINED: usize = 64;

/// How much of what a run and a worker say to each other waits between them, in bytes.
const BUFFER: usize = 64 << 10;

/// The workers that have joined.
#[derive(Debug, Default)]
pub(crate) struct JoinedWorkers(Mutex<Table>);

#[derive(Debug, Default)]
struct Table {
    last: u64,
    workers: BTreeMap<u64, Waiting>,
}

#[derive(Debug)]
struct Waiting {
    name: String,
    caller: Arc<Caller>,
    since: Timestamp,
    /// `None` when a run has it.
    hand_over: Option<oneshot::Sender<DuplexStream>>,
}

/// The place of a worker that has joined. It leaves when this is dropped.
#[derive(Debug)]
pub struct WorkerPlace {
    workers: Arc<JoinedWorkers>,
    id: u64,
    handed: oneshot::Receiver<DuplexStream>,
}

impl WorkerPlace {
    /// Waits until a run takes the worker; the stream is what the run says and hears. `None` when
    /// no run can take it any more.
    pub async fn taken(&mut self) -> Option<DuplexStream> {
        (&mut self.handed).await.ok()
    }
}

impl Drop for WorkerPlace {
    fn drop(&mut self) {
        self.workers.lock().workers.remove(&self.id);
    }
}

impl JoinedWorkers {
    fn lock(&self) -> std::sync::MutexGuard<'_, Table> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a worker waits that may have a run of a namespace with these scopes.
    pub(super) fn any_for(&self, namespace: &Registered, scopes: &[Scope]) -> bool {
        let may_have = |worker: &Waiting| may_have_run(&worker.caller, namespace, scopes);
        self.lock().workers.values().any(|worker| worker.hand_over.is_some() && may_have(worker))
    }

    /// Adds a worker of a caller.
    ///
    /// # Errors
    /// [`Overload`]: there are too many.
    pub(super) fn join(
        self: &Arc<Self>,
        caller: &Arc<Caller>,
        name: &str,
        since: Timestamp,
    ) -> Result<WorkerPlace, ControlError> {
        let (hand_over, handed) = oneshot::channel();
        let mut table = self.lock();
        if table.workers.len() >= MAX_JOINED {
            return Err(Overload::LoadWorkers { max: MAX_JOINED }.into());
        }
        table.last += 1;
        let id = table.last;
        let (caller, hand_over) = (Arc::clone(caller), Some(hand_over));
        table.workers.insert(id, Waiting { name: name.to_owned(), caller, since, hand_over });
        Ok(WorkerPlace { workers: Arc::clone(self), id, handed })
    }

    /// The workers whose callers fit.
    pub(super) fn of(&self, fits: impl Fn(&Caller) -> bool) -> Vec<JoinedWorker> {
        let table = self.lock();
        let shown = table.workers.iter().filter(|(_, worker)| fits(&worker.caller));
        let shown = shown.map(|(id, worker)| JoinedWorker {
            id: *id,
            name: worker.name.clone(),
            joined_at: moment(worker.since),
            is_busy: worker.hand_over.is_none(),
        });
        shown.collect()
    }

    /// Takes all workers that wait and may have a run of a namespace with these scopes.
    pub(super) fn take_for(
        &self,
        namespace: &Registered,
        scopes: &[Scope],
    ) -> Vec<JoinedGenerator> {
        let mut table = self.lock();
        let fitting =
            table.workers.values_mut().filter(|w| may_have_run(&w.caller, namespace, scopes));
        let taken = fitting.filter_map(|worker| {
            let (stream, other) = tokio::io::duplex(BUFFER);
            worker.hand_over.take()?.send(other).ok()?;
            Some(JoinedGenerator { name: worker.name.clone(), stream })
        });
        taken.collect()
    }
}

/// Whether a worker may have a run whose token opens these scopes: it never gets a scope that its
/// own token lacks. The right to load includes that to read.
fn may_have_run(caller: &Caller, namespace: &Registered, scopes: &[Scope]) -> bool {
    let read = Scope::within(Right::Read, namespace.tenant(), namespace.name());
    serves(caller, namespace) && scopes.iter().all(|scope| *scope == read || caller.holds(scope))
}

/// Whether a caller may load a namespace now.
pub(super) fn serves(caller: &Caller, namespace: &Registered) -> bool {
    let (tenant, name) = (namespace.tenant().as_str(), namespace.name().as_str());
    caller.still_open().is_ok() && caller.holds_within(Right::Load, tenant, name)
}
