//! Creating, changing and showing schedules.

use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use verax_api::{
    MissedChoice, Schedule as ApiSchedule, SchedulePreview, ScheduleSlot, ScheduleSpec,
    ScheduleTiming, ScheduledAction, duration_of, moment,
};
use verax_core::access::{Right, Scope};
use verax_core::schedule::{
    ActiveWindow, CronExpression, InvalidSchedule, MissedTimes, Schedule, Timing,
};
use verax_core::{EntityTag, Name, Timestamp};
use verax_records::{DefinitionKind, DefinitionPath, DefinitionRecord, SlotRecord};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::expected::Expected;
use crate::invalid::InvalidInput;
use crate::limits;
use crate::runs::zone_of;
use crate::subject::Subject;

/// The most schedules of a tenant.
const MAX_SCHEDULES: usize = 200;

/// How many next times are shown.
const SHOWN_TIMES: usize = 10;

/// The most slots of a page.
const MAX_SLOTS: u32 = 500;

/// The longest note, in characters.
const MAX_NOTE: usize = 200;

/// The entity tag of a schedule (RFC 9110, section 8.8.3); equal schedules have equal tags.
pub fn schedule_tag(spec: &ScheduleSpec) -> EntityTag {
    EntityTag::of("application/json", &serde_json::to_vec(spec).unwrap_or_default())
}

fn path_of(tenant: &Name, name: &Name) -> DefinitionPath {
    let kind = DefinitionKind::Schedule;
    DefinitionPath { kind, tenant: tenant.clone(), name: name.clone() }
}

/// Reads when a schedule runs.
///
/// # Errors
/// [`ControlError::Invalid`].
pub(super) fn timing_of(
    timing: &ScheduleTiming,
    anchor: Timestamp,
    seed: u64,
) -> Result<Schedule, ControlError> {
    let seconds = |field: &'static str, value: f64| -> Result<Duration, ControlError> {
        duration_of(field, value).map_err(ControlError::invalid)
    };
    let invalid = |error: InvalidSchedule| ControlError::invalid(error);
    let zone = timing.time_zone.as_deref().map_or(Ok(TimeZone::UTC), zone_of)?;
    let times = match (&timing.cron, timing.every_seconds) {
        (Some(cron), None) => {
            Timing::Cron(CronExpression::parse(cron).map_err(|e| invalid(e.into()))?)
        }
        (None, Some(every)) => Timing::Every(seconds("every_seconds", every)?),
        _ => return Err(invalid(InvalidSchedule::Timing)),
    };
    let active = timing.active.as_ref().map(|hours| {
        ActiveWindow::new(hours.days.as_deref(), &hours.from, &hours.until)
            .map_err(|e| invalid(e.into()))
    });
    let schedule = Schedule {
        timing: times,
        zone,
        active: active.transpose()?,
        jitter: seconds("jitter_seconds", timing.jitter_seconds.unwrap_or(0.0))?,
        missed: match timing.missed {
            MissedChoice::Skip => MissedTimes::Skip,
            MissedChoice::RunOnce => MissedTimes::RunOnce,
        },
        anchor,
        seed,
    };
    schedule.check().map_err(invalid)?;
    Ok(schedule)
}

fn next_times(schedule: &Schedule, after: Timestamp) -> Vec<jiff::Timestamp> {
    let slots = std::iter::successors(schedule.next(after), |slot| schedule.next(*slot));
    slots.take(SHOWN_TIMES).map(moment).collect()
}

fn slot_to_api(slot: &SlotRecord) -> ScheduleSlot {
    ScheduleSlot {
        time: moment(slot.slot),
        taken_at: moment(slot.taken_at),
        state: slot.state.name().to_owned(),
        run: slot.run,
        by_hand: slot.by_hand,
        note: slot.note.clone(),
    }
}

/// A schedule as the API shows it; `None` for one of a later version.
fn to_api(record: &DefinitionRecord, now: Timestamp) -> Option<ApiSchedule> {
    let spec: ScheduleSpec = serde_json::from_value(record.content.clone()).ok()?;
    let schedule = timing_of(&spec.timing(), record.created_at, record.id).ok();
    let next = schedule.filter(|_| !spec.paused).map(|schedule| next_times(&schedule, now));
    Some(ApiSchedule {
        tenant: record.tenant.to_string(),
        name: record.name.to_string(),
        changed_at: moment(record.changed_at),
        next: next.unwrap_or_default(),
        last: None,
        spec,
    })
}

/// Whether a caller may see a schedule whose action needs some scopes.
fn may_see(caller: &Caller, tenant: &Name, scopes: Result<Vec<Scope>, ControlError>) -> bool {
    match scopes {
        Ok(scopes) => scopes.into_iter().all(|scope| caller.needs(scope).is_ok()),
        // One whose plan is gone, for whoever may see all of them.
        Err(_) => caller.needs(Scope::tenant(Right::Warm, tenant)).is_ok(),
    }
}

impl Control {
    /// The rights that a schedule's action needs, in which namespace.
    pub(super) async fn scopes_of(
        &self,
        tenant: &Name,
        action: &ScheduledAction,
    ) -> Result<Vec<Scope>, ControlError> {
        let plans = match action {
            ScheduledAction::WarmPlan(_) => {
                self.records.definitions(DefinitionKind::WarmPlan, Some(tenant)).await?
            }
            _ => Vec::new(),
        };
        self.scopes_with(tenant, action, &plans).await
    }

    /// [`scopes_of`](Self::scopes_of) with the plans of some tenants, among them this one.
    async fn scopes_with(
        &self,
        tenant: &Name,
        action: &ScheduledAction,
        plans: &[DefinitionRecord],
    ) -> Result<Vec<Scope>, ControlError> {
        let name = |text: &str| Name::new(text).map_err(ControlError::invalid);
        Ok(match action {
            ScheduledAction::WarmPlan(plan) => {
                let of_tenant =
                    |p: &&DefinitionRecord| p.tenant == *tenant && p.name.as_str() == plan;
                let found = plans.iter().find(of_tenant);
                let namespace = found.and_then(|plan| {
                    plan.content.get("namespace").and_then(|n| n.as_str()).map(str::to_owned)
                });
                let missing =
                    || InvalidInput::Missing(Subject::WarmPlan(format!("{tenant}/{plan}")));
                let namespace = name(&namespace.ok_or_else(missing)?)?;
                vec![Scope::within(Right::Warm, tenant, &namespace)]
            }
            ScheduledAction::Invalidate(what) => {
                vec![Scope::within(Right::Invalidate, tenant, &name(&what.namespace)?)]
            }
            ScheduledAction::Check(what) => {
                let namespace = name(&what.namespace)?;
                let mut scopes = vec![Scope::within(Right::Read, tenant, &namespace)];
                if what.remove {
                    scopes.push(Scope::within(Right::Invalidate, tenant, &namespace));
                }
                scopes
            }
            ScheduledAction::LoadProfile(profile) => {
                let missing = || InvalidInput::Missing(Subject::Profile(profile.clone()));
                self.scopes_of_profile(tenant, profile).await?.ok_or_else(missing)?
            }
        })
    }

    /// Checks that a caller may have an action carried out.
    async fn may_schedule(
        &self,
        caller: &Caller,
        tenant: &Name,
        action: &ScheduledAction,
    ) -> Result<(), ControlError> {
        // What is missing is told only to those who may see the tenant's definitions.
        let scopes = match self.scopes_of(tenant, action).await {
            Ok(scopes) => scopes,
            Err(error) => {
                caller.needs(Scope::tenant(Right::Warm, tenant))?;
                return Err(error);
            }
        };
        for scope in scopes {
            let Scope::Within { namespace: Some(namespace), .. } = &scope else { continue };
            let namespace = namespace.clone();
            caller.needs(scope)?;
            self.registry.namespace(tenant, &namespace)?;
        }
        Ok(())
    }

    /// The schedules whose actions a caller could carry out, of one tenant or of all, by name, with
    /// the latest slot of each.
    ///
    /// # Errors
    /// [`ControlError`]: the records.
    pub async fn schedules(
        &self,
        caller: &Caller,
        tenant: Option<&Name>,
    ) -> Result<Vec<ApiSchedule>, ControlError> {
        let records = self.records.definitions(DefinitionKind::Schedule, tenant).await?;
        let plans = self.records.definitions(DefinitionKind::WarmPlan, tenant).await?;
        let mut seen = Vec::new();
        for record in records {
            let Some(mut schedule) = to_api(&record, self.engine.now()) else { continue };
            let scopes = self.scopes_with(&record.tenant, &schedule.spec.action, &plans).await;
            if may_see(caller, &record.tenant, scopes) {
                let latest = self.records.slots(record.id, 1).await?;
                schedule.last = latest.first().map(slot_to_api);
                seen.push(schedule);
            }
        }
        Ok(seen)
    }

    async fn schedule_record(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<(DefinitionRecord, ApiSchedule), ControlError> {
        let records = self.records.definitions(DefinitionKind::Schedule, Some(tenant)).await?;
        let unknown = || ControlError::Unknown(Subject::Schedule(format!("{tenant}/{name}")));
        let record = records.into_iter().find(|r| r.name == *name).ok_or_else(unknown)?;
        let schedule = to_api(&record, self.engine.now()).ok_or_else(unknown)?;
        let scopes = self.scopes_of(tenant, &schedule.spec.action).await;
        match may_see(caller, tenant, scopes) {
            true => Ok((record, schedule)),
            false => Err(unknown()),
        }
    }

    /// A schedule.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn schedule(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<ApiSchedule, ControlError> {
        let (record, mut schedule) = self.schedule_record(caller, tenant, name).await?;
        schedule.last = self.records.slots(record.id, 1).await?.first().map(slot_to_api);
        Ok(schedule)
    }

    /// The times of a schedule that have passed, newest first.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn schedule_slots(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        most: u32,
    ) -> Result<Vec<ScheduleSlot>, ControlError> {
        let (record, _) = self.schedule_record(caller, tenant, name).await?;
        let slots = self.records.slots(record.id, most.clamp(1, MAX_SLOTS)).await?;
        Ok(slots.iter().map(slot_to_api).collect())
    }

    /// The next times of a timing.
    ///
    /// # Errors
    /// [`ControlError::Invalid`].
    pub fn preview_schedule(
        &self,
        timing: &ScheduleTiming,
    ) -> Result<SchedulePreview, ControlError> {
        let now = self.engine.now();
        Ok(SchedulePreview { next: next_times(&timing_of(timing, now, 0)?, now) })
    }

    /// Creates or replaces a schedule, if what is there is what `expected` names. Times before this
    /// do not count as missed.
    ///
    /// # Errors
    /// [`ControlError`]: the scopes that its action needs, the schedule, or the records.
    pub async fn put_schedule(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        spec: &ScheduleSpec,
        expected: Expected,
    ) -> Result<ApiSchedule, ControlError> {
        self.may_schedule(caller, tenant, &spec.action).await?;
        if spec.note.chars().count() > MAX_NOTE {
            return Err(InvalidInput::Note { max: MAX_NOTE }.into());
        }
        timing_of(&spec.timing(), self.engine.now(), 0)?;
        let (caller, path, spec) = (caller.clone(), path_of(tenant, name), spec.clone());
        self.administer(async move |control| {
            control.may_schedule(&caller, &path.tenant, &spec.action).await?;
            let now = control.engine.now();
            let all = control.records.definitions(path.kind, Some(&path.tenant)).await?;
            let present = all.iter().find(|schedule| schedule.name == path.name);
            let present = present.and_then(|record| to_api(record, now));
            match &present {
                // One that this caller may not see is not its to replace.
                Some(present) => {
                    control.may_schedule(&caller, &path.tenant, &present.spec.action).await?;
                }
                None => limits::check("schedules of the tenant", all.len(), MAX_SCHEDULES)?,
            }
            if !expected.includes_present(present.as_ref().map(|s| schedule_tag(&s.spec))) {
                return Err(ControlError::NotExpected("schedule"));
            }
            control.keep_schedule(&caller, &path, &spec).await
        })
        .await
    }

    async fn keep_schedule(
        &self,
        caller: &Caller,
        path: &DefinitionPath,
        spec: &ScheduleSpec,
    ) -> Result<ApiSchedule, ControlError> {
        let record = self.write_definition(caller, path, spec).await?;
        let unknown = || ControlError::Unknown(Subject::Schedule(path.name.to_string()));
        to_api(&record, self.engine.now()).ok_or_else(unknown)
    }

    /// Pauses a schedule, or lets it go on. Times while it is paused do not count as missed.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn pause_schedule(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        paused: bool,
    ) -> Result<ApiSchedule, ControlError> {
        let (caller, path) = (caller.clone(), path_of(tenant, name));
        self.administer(async move |control| {
            let found = control.schedule_record(&caller, &path.tenant, &path.name).await?;
            let spec = ScheduleSpec { paused, ..found.1.spec.clone() };
            match found.1.spec.paused == paused {
                true => Ok(found.1),
                false => control.keep_schedule(&caller, &path, &spec).await,
            }
        })
        .await
    }

    /// Deletes a schedule. What it started goes on.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn delete_schedule(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<(), ControlError> {
        let (caller, path) = (caller.clone(), path_of(tenant, name));
        self.administer(async move |control| {
            control.schedule_record(&caller, &path.tenant, &path.name).await?;
            control.remove_definition(&caller, &path).await
        })
        .await
    }

    /// Does now what a schedule does, apart from its times.
    ///
    /// # Errors
    /// [`ControlError`]: the schedule, the scopes of its action, or the records.
    pub async fn run_schedule(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<ScheduleSlot, ControlError> {
        let (record, schedule) = self.schedule_record(caller, tenant, name).await?;
        self.may_schedule(caller, tenant, &schedule.spec.action).await?;
        let slot = self.take_slot_by_hand(record.id).await?;
        let ended = self.carry_out(&record, &schedule.spec, slot).await;
        Ok(slot_to_api(&ended))
    }
}
