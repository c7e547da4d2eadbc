//! What tenants define, in memory.

use std::collections::BTreeMap;

use serde_json::Value;
use verax_core::{Name, NamespaceId, Timestamp};

use super::Memory;
use crate::changed::Changed;
use crate::error::RecordsError;
use crate::model::{
    Actor, DefinitionKind, DefinitionPath, DefinitionRecord, RunFailure, SlotRecord,
};

/// The most failures of all runs that are kept.
const MAX_FAILURES: usize = 100_000;

/// The most samples of all runs that are kept.
const MAX_SAMPLES: usize = 20_000;

#[derive(Debug, Default)]
pub(super) struct Definitions {
    used: u64,
    rows: Vec<(DefinitionKind, u64, DefinitionRecord)>,
    slots: BTreeMap<(u64, Timestamp), SlotRecord>,
    failures: BTreeMap<(u64, u32), RunFailure>,
    samples: BTreeMap<(u64, u32), Value>,
    hottest: BTreeMap<u64, Vec<String>>,
}

impl Definitions {
    /// Removes what belonged to a tenant.
    pub(super) fn forget_tenant(&mut self, tenant: u64) {
        self.rows.retain(|(_, of, _)| *of != tenant);
        self.forget_slots();
    }

    fn forget_slots(&mut self) {
        let Self { rows, slots, .. } = self;
        slots.retain(|(schedule, _), _| rows.iter().any(|(_, _, row)| row.id == *schedule));
    }

    fn find(&mut self, path: &DefinitionPath) -> Option<usize> {
        self.rows.iter().position(|(kind, _, row)| {
            *kind == path.kind && row.tenant == path.tenant && row.name == path.name
        })
    }

    /// Marks a slot as started by a run.
    pub(super) fn start_slot(&mut self, slot: (u64, Timestamp), run: u64) {
        if let Some(slot) = self.slots.get_mut(&slot) {
            (slot.state, slot.run) = (crate::model::SlotState::Started, Some(run));
        }
    }
}

impl Memory {
    pub(crate) fn definitions(
        &self,
        kind: DefinitionKind,
        tenant: Option<&Name>,
    ) -> Vec<DefinitionRecord> {
        let state = self.state();
        let rows = state.definitions.rows.iter().filter(|(of, _, _)| *of == kind);
        let rows = rows.map(|(_, _, row)| row);
        let mut found: Vec<_> =
            rows.filter(|row| tenant.is_none_or(|name| row.tenant == *name)).cloned().collect();
        found.sort_by(|a, b| (&a.tenant, &a.name).cmp(&(&b.tenant, &b.name)));
        found
    }

    pub(crate) fn put_definition(
        &self,
        path: &DefinitionPath,
        content: &Value,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<DefinitionRecord>, RecordsError> {
        self.change(actor, now, |state| {
            let tenant = state.needed_tenant_id(&path.tenant)?;
            let definitions = &mut state.definitions;
            let (record, before) = match definitions.find(path) {
                Some(at) => {
                    let row = &mut definitions.rows[at].2;
                    row.changed_at = now;
                    let before = std::mem::replace(&mut row.content, content.clone());
                    (row.clone(), Some(before))
                }
                None => {
                    definitions.used += 1;
                    let record = DefinitionRecord {
                        id: definitions.used,
                        tenant: path.tenant.clone(),
                        name: path.name.clone(),
                        content: content.clone(),
                        created_at: now,
                        changed_at: now,
                    };
                    definitions.rows.push((path.kind, tenant, record.clone()));
                    (record, None)
                }
            };
            Ok((record, path.change(before.as_ref(), Some(content))))
        })
    }

    pub(crate) fn delete_definition(
        &self,
        path: &DefinitionPath,
        actor: &Actor,
        now: Timestamp,
    ) -> Result<Changed<()>, RecordsError> {
        self.change(actor, now, |state| {
            let at = state.definitions.find(path).ok_or_else(|| path.missing())?;
            let (_, _, before) = state.definitions.rows.remove(at);
            state.definitions.forget_slots();
            Ok(((), path.change(Some(&before.content), None)))
        })
    }

    pub(crate) fn take_slot(&self, slot: &SlotRecord) -> bool {
        let key = (slot.schedule, slot.slot);
        let slots = &mut self.state().definitions.slots;
        if slots.contains_key(&key) {
            return false;
        }
        slots.insert(key, slot.clone());
        true
    }

    pub(crate) fn end_slot(&self, slot: &SlotRecord) {
        if let Some(row) = self.state().definitions.slots.get_mut(&(slot.schedule, slot.slot)) {
            row.clone_from(slot);
        }
    }

    pub(crate) fn latest_slots(&self) -> Vec<(u64, Timestamp)> {
        let state = self.state();
        let by_schedule = state.definitions.slots.iter().filter(|(_, slot)| !slot.by_hand);
        let latest: BTreeMap<u64, Timestamp> = by_schedule.map(|(key, _)| *key).collect();
        latest.into_iter().collect()
    }

    pub(crate) fn slots(&self, schedule: u64, most: u32) -> Vec<SlotRecord> {
        let state = self.state();
        let all = state.definitions.slots.iter().rev();
        let of = all.filter(|((id, _), _)| *id == schedule).map(|(_, slot)| slot.clone());
        of.take(most as usize).collect()
    }

    pub(crate) fn keep_hottest(&self, namespace: NamespaceId, keys: &[String]) {
        self.state().definitions.hottest.insert(namespace.0, keys.to_vec());
    }

    pub(crate) fn hottest(&self, namespace: NamespaceId) -> Vec<String> {
        self.state().definitions.hottest.get(&namespace.0).cloned().unwrap_or_default()
    }

    pub(crate) fn prune_slots(&self, before: Timestamp) {
        self.state().definitions.slots.retain(|(_, slot), _| *slot >= before);
    }

    pub(crate) fn keep_failures(&self, run: u64, failures: &[RunFailure]) {
        let kept = &mut self.state().definitions.failures;
        kept.extend(failures.iter().map(|failure| ((run, failure.number), failure.clone())));
        while kept.len() > MAX_FAILURES {
            kept.pop_first();
        }
    }

    pub(crate) fn keep_samples(&self, run: u64, from: u32, samples: &[Value]) {
        let kept = &mut self.state().definitions.samples;
        kept.extend((from..).zip(samples).map(|(number, sample)| ((run, number), sample.clone())));
        while kept.len() > MAX_SAMPLES {
            kept.pop_first();
        }
    }

    pub(crate) fn samples(&self, run: u64, from: u32, most: u32) -> Vec<Value> {
        let state = self.state();
        let range = state.definitions.samples.range((run, from)..=(run, u32::MAX));
        range.take(most as usize).map(|(_, sample)| sample.clone()).collect()
    }

    pub(crate) fn failures(&self, run: u64, from: u32, most: u32) -> Vec<RunFailure> {
        let state = self.state();
        let range = state.definitions.failures.range((run, from)..=(run, u32::MAX));
        range.take(most as usize).map(|(_, failure)| failure.clone()).collect()
    }
}
