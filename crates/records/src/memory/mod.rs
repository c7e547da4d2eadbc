//! Records in memory, for a service that keeps nothing: they end with the process.
//!
//! One lock holds all of them, so changes are serialized and each has its own revision, as in
//! MariaDB. Nothing waits, and nothing is unavailable. There are no nodes: a pair needs records
//! that two processes share.

mod accounts;
mod definitions;
mod history;
mod places;
mod usage;

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use verax_core::{Name, Timestamp};

use crate::changed::Changed;
use crate::error::RecordsError;
use crate::identities::Identities;
use crate::model::{
    Activity, Actor, Change, NamespaceRecord, OriginRecord, RunKind, RunRecord, TenantRecord,
    TokenRecord, Topology,
};
use crate::snapshot::RecordsSnapshot;

/// The number of latest activities and runs that are kept.
const MAX_HISTORY: usize = 10_000;

/// A row that belongs to a tenant, which a later tenant of the same name does not get.
#[derive(Debug)]
struct OfTenant<R> {
    tenant: Option<u64>,
    row: R,
}

#[derive(Debug, Default)]
struct State {
    revision: u64,
    /// The largest identifiers that were used.
    used: Identities,
    activities: u64,
    epoch: u32,
    tenants: Vec<TenantRecord>,
    origins: Vec<OriginRecord>,
    namespaces: Vec<NamespaceRecord>,
    tokens: Vec<TokenRecord>,
    activity: VecDeque<OfTenant<Activity>>,
    runs: VecDeque<OfTenant<(RunKind, RunRecord)>>,
    usage: usage::UsageTable,
    definitions: definitions::Definitions,
}

/// A handle on records in memory. Cloning shares them.
#[derive(Debug, Clone, Default)]
pub(crate) struct Memory(Arc<Mutex<State>>);

/// Adds a row, and forgets the oldest one beyond [`MAX_HISTORY`].
fn push_bounded<R>(rows: &mut VecDeque<R>, row: R) {
    if rows.len() == MAX_HISTORY {
        rows.pop_front();
    }
    rows.push_back(row);
}

impl State {
    fn tenant_id(&self, name: &Name) -> Option<u64> {
        self.tenants.iter().find(|tenant| tenant.name == *name).map(|tenant| tenant.id)
    }

    fn needed_tenant_id(&self, name: &Name) -> Result<u64, RecordsError> {
        self.tenant_id(name).ok_or_else(|| RecordsError::Missing(format!("tenant {name}")))
    }

    fn write_activity(&mut self, actor: &Actor, now: Timestamp, change: Change) {
        self.activities += 1;
        let tenant = change.tenant.as_ref().and_then(|tenant| self.tenant_id(tenant));
        let row = Activity {
            id: self.activities,
            at: now,
            actor: actor.as_str().to_owned(),
            tenant: change.tenant.map(|tenant| tenant.to_string()),
            action: change.action.to_owned(),
            subject: change.subject,
            detail: change.detail,
        };
        push_bounded(&mut self.activity, OfTenant { tenant, row });
    }
}

impl Memory {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes a change: `make` checks first and changes the rows last, so that a refused change
    /// changes nothing.
    fn change<R>(
        &self,
        actor: &Actor,
        now: Timestamp,
        make: impl FnOnce(&mut State) -> Result<(R, Change), RecordsError>,
    ) -> Result<Changed<R>, RecordsError> {
        let mut state = self.state();
        let (value, change) = make(&mut state)?;
        state.revision += 1;
        state.write_activity(actor, now, change);
        Ok(Changed { value, revision: state.revision })
    }

    pub(crate) fn revision(&self) -> u64 {
        self.state().revision
    }

    pub(crate) fn raise_identities(&self, known: &Identities) {
        let used = &mut self.state().used;
        used.tenant = used.tenant.max(known.tenant);
        used.origin = used.origin.max(known.origin);
        used.token = used.token.max(known.token);
        used.run = used.run.max(known.run);
    }

    pub(crate) fn next_lock_epoch(&self, known: u32) -> Result<u32, RecordsError> {
        let mut state = self.state();
        let used_up = || RecordsError::Unavailable("the lock epochs are used up".into());
        state.epoch = state.epoch.max(known).checked_add(1).ok_or_else(used_up)?;
        Ok(state.epoch)
    }

    pub(crate) fn snapshot(&self) -> RecordsSnapshot {
        let state = self.state();
        RecordsSnapshot {
            revision: state.revision,
            tenants: state.tenants.clone(),
            origins: state.origins.clone(),
            namespaces: state.namespaces.clone(),
            tokens: state.tokens.clone(),
            topology: Topology::default(),
        }
    }
}
