//! Carrying out what a schedule does.

use std::sync::Arc;

use verax_api::{
    CheckRequest, LoadRequest, ProfileChoice, ScheduleSpec, ScheduledAction, ScheduledCheck,
    ScheduledInvalidation, StartWarmRun,
};
use verax_core::{Name, Timestamp};
use verax_records::{DefinitionRecord, SlotRecord, SlotState};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::runs::WarmCause;

/// What became of an action.
struct ActionOutcome {
    state: SlotState,
    run: Option<u64>,
    note: String,
}

impl ActionOutcome {
    fn done(note: String) -> Self {
        Self { state: SlotState::Done, run: None, note }
    }

    fn started(run: u64) -> Self {
        Self { state: SlotState::Started, run: Some(run), note: String::new() }
    }
}

impl Control {
    /// Takes a slot of a schedule for somebody who runs it by hand.
    pub(super) async fn take_slot_by_hand(&self, id: u64) -> Result<SlotRecord, ControlError> {
        let now = self.engine.now();
        let mut slot = SlotRecord {
            schedule: id,
            slot: now,
            taken_at: now,
            state: SlotState::Taken,
            run: None,
            by_hand: true,
            note: String::new(),
        };
        // Two within a millisecond are told apart.
        while !self.records.take_slot(&slot).await? {
            slot.slot = slot.slot + std::time::Duration::from_millis(1);
        }
        Ok(slot)
    }

    /// Carries out a slot that was taken, and says what became of it.
    pub(super) async fn carry_out(
        self: &Arc<Self>,
        record: &DefinitionRecord,
        spec: &ScheduleSpec,
        slot: SlotRecord,
    ) -> SlotRecord {
        let done = self.act(record, spec, (slot.schedule, slot.slot)).await;
        let ActionOutcome { state, run, note } = done.unwrap_or_else(|error| {
            let schedule = format!("{}/{}", record.tenant, record.name);
            tracing::warn!(schedule, %error, "a schedule could not do what it is for");
            ActionOutcome { state: SlotState::Failed, run: None, note: error.to_string() }
        });
        let note = if note.is_empty() { slot.note.clone() } else { note };
        let ended = SlotRecord { state, run, note, ..slot };
        if let Err(error) = self.records.end_slot(&ended).await {
            tracing::warn!(%error, "the end of a scheduled action is missing in the records");
        }
        ended
    }

    async fn act(
        self: &Arc<Self>,
        record: &DefinitionRecord,
        spec: &ScheduleSpec,
        slot: (u64, Timestamp),
    ) -> Result<ActionOutcome, ControlError> {
        let tenant = &record.tenant;
        let who = format!("schedule {tenant}/{}", record.name);
        let caller = Caller::service(&who, self.scopes_of(tenant, &spec.action).await?);
        match &spec.action {
            ScheduledAction::WarmPlan(plan) => {
                let name = Name::new(&**plan).map_err(ControlError::invalid)?;
                let found = self.warm_plan(&caller, tenant, &name).await?;
                let (plan, slot) = (Some(plan.clone()), Some(slot));
                let cause = WarmCause { plan, text: who, slot, by_itself: true };
                let start = StartWarmRun::default();
                let run = self.warm_by_plan(&caller, tenant, &found.spec, &start, cause).await?;
                Ok(ActionOutcome::started(run.now().id))
            }
            ScheduledAction::Invalidate(what) => self.invalidate_now(&caller, tenant, what).await,
            ScheduledAction::Check(what) => self.check_now(&caller, tenant, what).await,
            ScheduledAction::LoadProfile(profile) => {
                let profile = ProfileChoice::Named(format!("{tenant}/{profile}"));
                let request = LoadRequest { profile, workers: 1, joined: false };
                let run = self.start_load_run_for(&caller, &request, Some(slot)).await?;
                Ok(ActionOutcome::started(run.now().id))
            }
        }
    }

    async fn invalidate_now(
        &self,
        caller: &Caller,
        tenant: &Name,
        what: &ScheduledInvalidation,
    ) -> Result<ActionOutcome, ControlError> {
        let name = Name::new(&*what.namespace).map_err(ControlError::invalid)?;
        let note = match (&what.tag, &what.prefix) {
            (Some(tag), _) => {
                let deleter = self.open_deleter(caller, tenant, &name)?;
                let entries = deleter.count_tag(tag).await.entries;
                deleter.invalidate_tag(tag);
                format!("{entries} entries with the tag {tag} removed")
            }
            (None, Some(prefix)) => {
                let clearer = self.open_clearer(caller, tenant, &name)?;
                format!("{} entries removed", clearer.clear_prefix(prefix).await)
            }
            (None, None) => {
                let clearer = self.open_clearer(caller, tenant, &name)?;
                format!("{} entries removed", clearer.clear())
            }
        };
        Ok(ActionOutcome::done(note))
    }

    async fn check_now(
        &self,
        caller: &Caller,
        tenant: &Name,
        what: &ScheduledCheck,
    ) -> Result<ActionOutcome, ControlError> {
        let name = Name::new(&*what.namespace).map_err(ControlError::invalid)?;
        let mut request = CheckRequest {
            prefix: what.prefix.clone().unwrap_or_default(),
            remove: what.remove,
            ..CheckRequest::default()
        };
        let (mut checked, mut damaged, mut removed) = (0, 0, 0);
        loop {
            let step = self.check_values(caller, (tenant, &name), &request).await?;
            checked += step.checked;
            damaged += step.damaged.len();
            removed += step.damaged.iter().filter(|value| value.removed).count();
            match step.cursor {
                Some(cursor) => request.cursor = Some(cursor),
                None => break,
            }
        }
        Ok(ActionOutcome::done(format!(
            "{checked} values checked, {damaged} damaged, {removed} removed"
        )))
    }
}
