//! Schedules.

use serde_json::json;
use verax_api::{
    ActiveHours, MissedChoice, Schedule, ScheduleSlot, ScheduleSpec, ScheduleTiming,
    ScheduledAction, ScheduledCheck, ScheduledInvalidation,
};
use verax_client::{Client, DefinitionCondition};

use super::administration::moment;
use crate::arguments::{ActionOptions, ScheduleCommand, TimingOptions};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn schedule(
    verax: &Client,
    output: Output,
    command: ScheduleCommand,
) -> Result<(), Failure> {
    match command {
        ScheduleCommand::List { tenant } => {
            let schedules = verax.schedules(tenant.as_deref()).await?;
            output.answer(&schedules, |schedules| table_of(schedules))
        }
        ScheduleCommand::Show { schedule } => {
            let found = verax.schedule(&schedule.tenant, &schedule.name).await?;
            output.answer(&found, described)
        }
        ScheduleCommand::Set { schedule, action, tag, prefix, remove, timing, note, dry_run } => {
            let timing = timing_of(*timing)?;
            if dry_run {
                let preview = verax.preview_schedule(&timing).await?;
                let zone = timing.time_zone.clone();
                return output.answer(&preview, |p| times(&p.next, zone.as_deref()));
            }
            let action = action_of(action, tag, prefix, remove)?;
            let spec = ScheduleSpec { note, ..ScheduleSpec::new(action, timing) };
            let always = DefinitionCondition::Always;
            let put = verax.put_schedule(&schedule.tenant, &schedule.name, &spec, &always).await?;
            output.answer(&put, described)
        }
        ScheduleCommand::Pause { schedule } => {
            let paused = verax.pause_schedule(&schedule.tenant, &schedule.name, true).await?;
            output.answer(&paused, |s| format!("schedule {}/{} is paused", s.tenant, s.name))
        }
        ScheduleCommand::Resume { schedule } => {
            let resumed = verax.pause_schedule(&schedule.tenant, &schedule.name, false).await?;
            output.answer(&resumed, described)
        }
        ScheduleCommand::Run { schedule } => {
            let slot = verax.run_schedule(&schedule.tenant, &schedule.name).await?;
            output.answer(&slot, |slot| match slot.run {
                Some(run) => format!("{}: run {run}", slot.state),
                None => format!("{}: {}", slot.state, slot.note),
            })?;
            match slot.state.as_str() {
                "failed" => Err(Failure::failed(slot.note)),
                _ => Ok(()),
            }
        }
        ScheduleCommand::History { schedule, limit } => {
            let slots = verax.schedule_slots(&schedule.tenant, &schedule.name, limit).await?;
            output.answer(&slots, |slots| history(slots))
        }
        ScheduleCommand::Delete { schedule } => {
            verax.delete_schedule(&schedule.tenant, &schedule.name).await?;
            let path = format!("{}/{}", schedule.tenant, schedule.name);
            output.answer(&json!({ "deleted": path }), |_| format!("schedule {path} is deleted"))
        }
    }
}

fn timing_of(options: TimingOptions) -> Result<ScheduleTiming, Failure> {
    let active = match (options.between, options.on) {
        (None, None) => None,
        (between, days) => {
            let between = between.unwrap_or_else(|| "00:00-24:00".to_owned());
            let (from, until) = between.split_once('-').ok_or_else(|| {
                Failure::usage(format!("{between:?} is not FROM-UNTIL, such as 08:00-18:00"))
            })?;
            Some(ActiveHours { days, from: from.to_owned(), until: until.to_owned() })
        }
    };
    Ok(ScheduleTiming {
        cron: options.cron,
        every_seconds: options.every.map(|time| time.as_secs_f64()),
        time_zone: options.time_zone,
        active,
        jitter_seconds: options.jitter.map(|time| time.as_secs_f64()),
        missed: if options.run_missed { MissedChoice::RunOnce } else { MissedChoice::Skip },
    })
}

fn action_of(
    options: ActionOptions,
    tag: Option<String>,
    prefix: Option<String>,
    remove: bool,
) -> Result<ScheduledAction, Failure> {
    let ActionOptions { warm_plan, load_profile, invalidate, check } = options;
    if prefix.is_some() && invalidate.is_none() && check.is_none() {
        return Err(Failure::usage("--prefix goes with --invalidate or --check"));
    }
    Ok(match (warm_plan, load_profile, invalidate, check) {
        (Some(plan), ..) => ScheduledAction::WarmPlan(plan),
        (_, Some(profile), ..) => ScheduledAction::LoadProfile(profile),
        (_, _, Some(namespace), _) => {
            ScheduledAction::Invalidate(ScheduledInvalidation { namespace, tag, prefix })
        }
        (.., Some(namespace)) => {
            ScheduledAction::Check(ScheduledCheck { namespace, prefix, remove })
        }
        _ => return Err(Failure::usage("say what to do: --warm-plan, --invalidate, …")),
    })
}

fn action(action: &ScheduledAction) -> String {
    match action {
        ScheduledAction::WarmPlan(plan) => format!("run the warm plan {plan}"),
        ScheduledAction::LoadProfile(profile) => format!("run the load profile {profile}"),
        ScheduledAction::Invalidate(what) => match (&what.tag, &what.prefix) {
            (Some(tag), _) => format!("remove entries of {} with the tag {tag}", what.namespace),
            (None, Some(prefix)) => format!("remove {prefix}… of {}", what.namespace),
            (None, None) => format!("clear {}", what.namespace),
        },
        ScheduledAction::Check(what) => {
            let more = if what.remove { ", remove damaged values" } else { "" };
            format!(
                "check {}{}{more}",
                what.namespace,
                match &what.prefix {
                    Some(prefix) => format!(" ({prefix}…)"),
                    None => String::new(),
                }
            )
        }
    }
}

fn timing(spec: &ScheduleSpec) -> String {
    let mut text = match (&spec.cron, spec.every_seconds) {
        (Some(cron), _) => cron.clone(),
        (None, Some(seconds)) => {
            let time = std::time::Duration::try_from_secs_f64(seconds).unwrap_or_default();
            format!("every {}", figures::time(time))
        }
        (None, None) => String::new(),
    };
    text.push_str(&format!(" ({})", spec.time_zone.as_deref().unwrap_or("UTC")));
    if let Some(active) = &spec.active {
        let days = active.days.as_deref().unwrap_or("every day");
        text.push_str(&format!(", {days} {}–{}", active.from, active.until));
    }
    if let Some(jitter) = spec.jitter_seconds.filter(|jitter| *jitter > 0.0) {
        let jitter = std::time::Duration::try_from_secs_f64(jitter).unwrap_or_default();
        text.push_str(&format!(", up to {} later", figures::time(jitter)));
    }
    text
}

/// A time in a time zone.
fn local(at: jiff::Timestamp, zone: Option<&str>) -> String {
    let zone = zone.and_then(|zone| jiff::tz::TimeZone::get(zone).ok());
    let zone = zone.unwrap_or(jiff::tz::TimeZone::UTC);
    at.to_zoned(zone).strftime("%a %Y-%m-%d %H:%M:%S %Z").to_string()
}

fn times(next: &[jiff::Timestamp], zone: Option<&str>) -> String {
    next.iter().map(|at| local(*at, zone)).collect::<Vec<_>>().join("\n")
}

fn outcome(slot: &ScheduleSlot) -> String {
    let mut text = slot.state.clone();
    if let Some(run) = slot.run {
        text.push_str(&format!(" run {run}"));
    }
    if !slot.note.is_empty() {
        text.push_str(&format!(": {}", slot.note));
    }
    text
}

fn table_of(schedules: &[Schedule]) -> String {
    let row = |schedule: &Schedule| {
        let zone = schedule.spec.time_zone.as_deref();
        vec![
            format!("{}/{}", schedule.tenant, schedule.name),
            action(&schedule.spec.action),
            timing(&schedule.spec),
            match schedule.next.first() {
                Some(next) => local(*next, zone),
                None if schedule.spec.paused => "paused".to_owned(),
                None => "–".to_owned(),
            },
            schedule.last.as_ref().map_or_else(|| "–".to_owned(), outcome),
        ]
    };
    table(&["schedule", "does", "when", "next", "last"], schedules.iter().map(row))
}

fn described(schedule: &Schedule) -> String {
    let zone = schedule.spec.time_zone.as_deref();
    let mut text = format!(
        "{}/{}: {}\n  when  {}",
        schedule.tenant,
        schedule.name,
        action(&schedule.spec.action),
        timing(&schedule.spec)
    );
    if !schedule.spec.note.is_empty() {
        text.push_str(&format!("\n  note  {}", schedule.spec.note));
    }
    if let Some(last) = &schedule.last {
        text.push_str(&format!("\n  last  {} {}", local(last.time, zone), outcome(last)));
    }
    match schedule.next.is_empty() {
        true => text.push_str(if schedule.spec.paused { "\n  paused" } else { "\n  no next time" }),
        false => {
            for (at, next) in schedule.next.iter().enumerate() {
                let title = if at == 0 { "next" } else { "    " };
                text.push_str(&format!("\n  {title}  {}", local(*next, zone)));
            }
        }
    }
    text
}

fn history(slots: &[ScheduleSlot]) -> String {
    let row = |slot: &ScheduleSlot| {
        vec![
            moment(slot.time),
            moment(slot.taken_at),
            if slot.by_hand { "by hand" } else { "by itself" }.to_owned(),
            slot.state.clone(),
            slot.run.map_or_else(|| "–".to_owned(), |run| run.to_string()),
            slot.note.clone(),
        ]
    };
    table(&["time", "begun", "how", "state", ">run", "note"], slots.iter().map(row))
}
