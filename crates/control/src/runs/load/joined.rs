//! Workers of other machines that have joined, to generate the load of runs.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use tokio::io::DuplexStream;
use tokio::sync::oneshot;
use verax_api::{JoinedWorker, moment};
use verax_core::Timestamp;
use verax_core::access::{Right, Scope};

use crate::access::Caller;
use crate::control::Control;
use crate::error::{ControlError, Overload};
use crate::invalid::InvalidInput;
use crate::registry::Registered;
use crate::runs::runner::JoinedGenerator;

/// The most workers that may have joined.
const MAX_JOINED: usize = 64;

/// The longest name, in characters.
pub const MAX_WORKER_NAME: usize = 80;

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
    control: Arc<Control>,
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
        self.control.joined_workers.lock().workers.remove(&self.id);
    }
}

impl JoinedWorkers {
    fn lock(&self) -> std::sync::MutexGuard<'_, Table> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a worker waits that may load a namespace.
    pub(super) fn any_for(&self, namespace: &Registered) -> bool {
        self.lock().workers.values().any(|w| w.hand_over.is_some() && serves(&w.caller, namespace))
    }

    /// Takes all workers that wait and may load a namespace.
    pub(super) fn take_for(&self, namespace: &Registered) -> Vec<JoinedGenerator> {
        let mut table = self.lock();
        let fitting = table.workers.values_mut().filter(|w| serves(&w.caller, namespace));
        let taken = fitting.filter_map(|worker| {
            let (stream, other) = tokio::io::duplex(BUFFER);
            worker.hand_over.take()?.send(other).ok()?;
            Some(JoinedGenerator { name: worker.name.clone(), stream })
        });
        taken.collect()
    }
}

/// Whether a worker may have what a run of a namespace needs: a token to read it, and its origin.
fn serves(caller: &Caller, namespace: &Registered) -> bool {
    let (tenant, name) = (namespace.tenant().as_str(), namespace.name().as_str());
    caller.still_open().is_ok() && caller.holds_within(Right::Load, tenant, name)
}

impl Control {
    /// Joins a worker, for runs of the namespaces that its caller may load.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the name, or too many workers.
    pub fn join_load_worker(
        self: &Arc<Self>,
        caller: &Arc<Caller>,
        name: &str,
    ) -> Result<WorkerPlace, ControlError> {
        caller.still_open()?;
        let may_load = |scope: &Scope| match scope {
            Scope::Admin => true,
            Scope::Within { right, .. } => right.covers(Right::Load),
        };
        if !caller.scopes().iter().any(may_load) {
            return Err(ControlError::MissingRight(Right::Load.name()));
        }
        let characters = name.chars().count();
        if characters == 0 || characters > MAX_WORKER_NAME || name.chars().any(char::is_control) {
            return Err(InvalidInput::WorkerName { max: MAX_WORKER_NAME }.into());
        }
        let (hand_over, handed) = oneshot::channel();
        let mut table = self.joined_workers.lock();
        if table.workers.len() >= MAX_JOINED {
            return Err(Overload::LoadWorkers { max: MAX_JOINED }.into());
        }
        table.last += 1;
        let (id, since) = (table.last, self.engine.now());
        let (caller, hand_over) = (Arc::clone(caller), Some(hand_over));
        table.workers.insert(id, Waiting { name: name.to_owned(), caller, since, hand_over });
        Ok(WorkerPlace { control: Arc::clone(self), id, handed })
    }

    /// The workers that have joined and may load a namespace that the caller may load.
    pub fn joined_workers(&self, caller: &Caller) -> Vec<JoinedWorker> {
        let namespaces: Vec<Arc<Registered>> = self
            .registry
            .namespaces()
            .into_iter()
            .filter(|namespace| serves(caller, namespace))
            .collect();
        let table = self.joined_workers.lock();
        let is_seen = |worker: &Waiting| {
            caller.is_admin() || namespaces.iter().any(|name| serves(&worker.caller, name))
        };
        let seen = table.workers.iter().filter(|(_, worker)| is_seen(worker));
        let shown = seen.map(|(id, worker)| JoinedWorker {
            id: *id,
            name: worker.name.clone(),
            joined_at: moment(worker.since),
            is_busy: worker.hand_over.is_none(),
        });
        shown.collect()
    }
}
