//! Carries out schedules at their times.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use verax_api::ScheduleSpec;
use verax_core::Timestamp;
use verax_core::schedule::Schedule;
use verax_records::{DefinitionKind, DefinitionRecord, RecordsError, SlotRecord, SlotState};

use super::administration::timing_of;
use super::triggers::Triggers;
use crate::control::Control;
use crate::membership::Role;

/// How exactly schedules are carried out.
const TICK: Duration = Duration::from_millis(250);

/// For how long slots are kept.
const KEPT_SLOTS: Duration = Duration::from_secs(90 * 86_400);

/// How often slots are pruned.
const PRUNE_EVERY: Duration = Duration::from_secs(3_600);

/// A schedule, and the latest slot that was dealt with.
struct Planned {
    record: DefinitionRecord,
    spec: ScheduleSpec,
    schedule: Schedule,
    latest: Timestamp,
}

/// What is known of the records.
struct Known {
    revision: u64,
    planned: Vec<Planned>,
    triggers: Triggers,
}

/// Carries out schedules until the service stops.
pub(crate) async fn carry_out_schedules(control: Arc<Control>) {
    let mut ticks = tokio::time::interval(TICK);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut known: Option<Known> = None;
    let mut began = false;
    let mut pruned: Option<Timestamp> = None;
    loop {
        ticks.tick().await;
        if control.role() != Role::Active {
            // Another node may have acted meanwhile.
            (known, began) = (None, false);
            continue;
        }
        if !control.records_available() || !control.sync.is_loaded() {
            continue;
        }
        let unfinished = control.sync.take_unfinished();
        if !unfinished.is_empty() {
            control.resume_warm_runs(unfinished).await;
        }
        if known.as_ref().is_none_or(|known| known.revision != control.sync.revision()) {
            match control.load_schedules(&mut known).await {
                Ok(loaded) => known = Some(loaded),
                Err(error) => {
                    tracing::debug!(%error, "schedules are read later");
                    continue;
                }
            }
        }
        let Some(known) = &mut known else { continue };
        if !began {
            began = control.redo_open_slots(&known.planned).await;
            if !began {
                continue;
            }
            known.triggers.after_start(&control);
        }
        let now = control.engine.now();
        for planned in known.planned.iter_mut().filter(|planned| !planned.spec.paused) {
            control.follow_schedule(planned, now).await;
        }
        known.triggers.follow(&control, now).await;
        if pruned.is_none_or(|pruned| now.since(pruned) > PRUNE_EVERY) {
            pruned = Some(now);
            // What cannot be pruned now is pruned an hour later.
            let _ = control.records.prune_slots(now - KEPT_SLOTS).await;
            let _ = control.records.prune_work().await;
        }
    }
}

impl Control {
    /// Reads the schedules and the plans that run by themselves; on failure, `before` stays.
    async fn load_schedules(&self, before: &mut Option<Known>) -> Result<Known, RecordsError> {
        // Before the definitions: a change in between is seen at the next tick.
        let revision = self.sync.revision();
        let records = self.records.definitions(DefinitionKind::Schedule, None).await?;
        let latest: HashMap<u64, Timestamp> =
            self.records.latest_slots().await?.into_iter().collect();
        let plans = self.records.definitions(DefinitionKind::WarmPlan, None).await?;
        let planned = |record: DefinitionRecord| {
            let spec: ScheduleSpec = serde_json::from_value(record.content.clone()).ok()?;
            let schedule = timing_of(&spec.timing(), record.created_at, record.id).ok()?;
            let slot = latest.get(&record.id).copied().unwrap_or_default();
            // Times before the last change are those of another schedule.
            Some(Planned { latest: slot.max(record.changed_at), record, spec, schedule })
        };
        let triggers = Triggers::new(self, &plans, before.take().map(|before| before.triggers));
        Ok(Known { revision, planned: records.into_iter().filter_map(planned).collect(), triggers })
    }

    /// Does what is due of a schedule.
    async fn follow_schedule(self: &Arc<Self>, planned: &mut Planned, now: Timestamp) {
        let Some(due) = planned.schedule.due(planned.latest, now) else { return };
        let missed = match due.missed {
            0 => String::new(),
            1 => "one earlier time was missed".to_owned(),
            missed => format!("{missed} earlier times were missed"),
        };
        let slot = SlotRecord {
            schedule: planned.record.id,
            slot: due.run.unwrap_or(due.latest),
            taken_at: now,
            state: if due.run.is_some() { SlotState::Taken } else { SlotState::Missed },
            run: None,
            by_hand: false,
            note: missed,
        };
        match self.records.take_slot(&slot).await {
            Ok(taken) => {
                planned.latest = due.latest;
                if taken && due.run.is_some() {
                    self.begin_slot(planned, slot);
                }
            }
            // It is due until it is taken, or missed.
            Err(error) => tracing::debug!(%error, "a slot of a schedule is taken later"),
        }
    }

    fn begin_slot(self: &Arc<Self>, planned: &Planned, slot: SlotRecord) {
        let (control, record) = (Arc::clone(self), planned.record.clone());
        let spec = planned.spec.clone();
        tokio::spawn(async move { control.carry_out(&record, &spec, slot).await });
    }

    /// Does what an earlier process took and did not do; `false` if that is not known yet.
    async fn redo_open_slots(self: &Arc<Self>, planned: &[Planned]) -> bool {
        let Ok(open) = self.records.open_slots().await else { return false };
        for slot in open {
            if let Some(planned) = planned.iter().find(|p| p.record.id == slot.schedule) {
                self.begin_slot(planned, slot);
            }
        }
        true
    }
}
