//! Activity and runs in memory.

use serde_json::Value;
use verax_core::Timestamp;

use super::{Memory, OfTenant, push_bounded};
use crate::error::RecordsError;
use crate::model::{Activity, ActivityFilter, Actor, Change, NewRun, RunKind, RunRecord, RunState};

impl Memory {
    pub(crate) fn note(&self, actor: &Actor, now: Timestamp, change: Change) {
        self.state().write_activity(actor, now, change);
    }

    pub(crate) fn activity(&self, filter: &ActivityFilter) -> Vec<Activity> {
        let state = self.state();
        let id = filter.tenant.as_ref().map(|tenant| state.tenant_id(tenant));
        // Of a tenant that is gone, nothing is listed under its name.
        let is_of =
            |row: &&OfTenant<Activity>| id.is_none_or(|id| id.is_some() && row.tenant == id);
        let latest = state.activity.iter().rev().filter(is_of).map(|row| &row.row);
        latest.filter(|row| filter.fits(row)).take(filter.most as usize).cloned().collect()
    }

    pub(crate) fn start_run(
        &self,
        run: &NewRun,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<u64, RecordsError> {
        let mut state = self.state();
        let tenant = Some(state.needed_tenant_id(&run.tenant)?);
        state.used.run += 1;
        let id = state.used.run;
        let record = RunRecord {
            id,
            tenant: run.tenant.clone(),
            namespace: run.namespace.clone(),
            title: run.short_title(),
            started_at: now,
            ended_at: None,
            state: RunState::Running,
            result: run.result.clone(),
        };
        push_bounded(&mut state.runs, OfTenant { tenant, row: (run.kind, record) });
        if let Some(slot) = run.slot {
            state.definitions.start_slot(slot, id);
        }
        state.write_activity(actor, now, run.change(id));
        Ok(id)
    }

    pub(crate) fn keep_run(
        &self,
        id: u64,
        run_state: RunState,
        result: &Value,
        ended_at: Option<Timestamp>,
    ) {
        let mut state = self.state();
        let mut runs = state.runs.iter_mut().map(|run| &mut run.row.1);
        if let Some(run) = runs.find(|run| run.id == id && run.ended_at.is_none()) {
            (run.state, run.ended_at) = (run_state, ended_at);
            run.result = result.clone();
        }
    }

    /// No run outlives the process, so none is resumed.
    pub(crate) fn interrupt_runs(&self, now: Timestamp) {
        let mut state = self.state();
        let runs = state.runs.iter_mut().map(|run| &mut run.row.1);
        for run in runs.filter(|run| run.state == RunState::Running) {
            (run.state, run.ended_at) = (RunState::Interrupted, Some(now));
        }
    }

    pub(crate) fn runs(&self, kind: RunKind, most: u32) -> Vec<RunRecord> {
        let state = self.state();
        let exists = |id: Option<u64>| state.tenants.iter().any(|tenant| Some(tenant.id) == id);
        let latest = state.runs.iter().rev();
        let latest = latest.filter(|run| run.row.0 == kind && exists(run.tenant));
        latest.take(most as usize).map(|run| run.row.1.clone()).collect()
    }
}
