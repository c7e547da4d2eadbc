//! Joining as a load worker, and who has joined.

use std::sync::Arc;

use verax_api::JoinedWorker;
use verax_core::access::{Right, Scope};

use super::joined::{WorkerPlace, serves};
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::registry::Registered;

/// The longest name of a worker, in characters.
pub const MAX_WORKER_NAME: usize = 80;

impl Control {
    /// Joins a worker, for runs of the namespaces that its caller may load.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the name, or too many workers.
    pub fn join_load_worker(
        &self,
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
        self.joined_workers.join(caller, name, self.engine.now())
    }

    /// The workers that have joined and may load a namespace that the caller may load.
    pub fn joined_workers(&self, caller: &Caller) -> Vec<JoinedWorker> {
        let namespaces: Vec<Arc<Registered>> = self
            .registry
            .namespaces()
            .into_iter()
            .filter(|namespace| serves(caller, namespace))
            .collect();
        self.joined_workers.of(|worker| {
            caller.is_admin() || namespaces.iter().any(|namespace| serves(worker, namespace))
        })
    }
}
