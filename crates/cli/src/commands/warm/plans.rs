//! Warm plans.

use serde_json::json;
use verax_api::{AfterInvalidation, DefinitionFile, WarmPlan, WarmPlanSpec};
use verax_client::{Client, DefinitionCondition};

use super::plan_file;
use super::request::request_of;
use crate::arguments::PlanCommand;
use crate::commands::administration::moment;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, confirm, table};

pub(super) async fn plan(
    verax: &Client,
    output: Output,
    command: PlanCommand,
) -> Result<(), Failure> {
    match command {
        PlanCommand::List { tenant } => {
            let plans = verax.warm_plans(tenant.as_deref()).await?;
            output.answer(&plans, |plans| table_of(plans))
        }
        PlanCommand::Show { plan } => {
            let plan = verax.warm_plan(&plan.tenant, &plan.name).await?;
            if output.json {
                return output.json(&plan);
            }
            output.line(plan_file::text(&DefinitionFile::of(vec![plan], Vec::new()))?)
        }
        PlanCommand::Set {
            plan,
            namespace,
            note,
            after_invalidation,
            within,
            after_start,
            overlap,
            options,
        } => {
            let mut spec = WarmPlanSpec::new(&namespace, request_of(*options)?);
            spec.note = note;
            spec.after_start = after_start;
            spec.overlap = overlap.map(Into::into).unwrap_or_default();
            spec.after_invalidation = after_invalidation.map(|quiet| AfterInvalidation {
                quiet_seconds: quiet.as_secs_f64(),
                within_seconds: within.max(quiet).as_secs_f64(),
            });
            let always = DefinitionCondition::Always;
            let plan = verax.put_warm_plan(&plan.tenant, &plan.name, &spec, &always).await?;
            output.answer(&plan, |plan| {
                format!(
                    "warm plan {0}/{1} is kept: run it with `verax warm run {0}/{1}`",
                    plan.tenant, plan.name
                )
            })
        }
        PlanCommand::Delete { plan } => {
            verax.delete_warm_plan(&plan.tenant, &plan.name).await?;
            let path = format!("{}/{}", plan.tenant, plan.name);
            output.answer(&json!({ "deleted": path }), |_| format!("warm plan {path} is deleted"))
        }
        PlanCommand::Import { file, yes, dry_run } => {
            import(verax, output, plan_file::read(&file)?, yes, dry_run).await
        }
        PlanCommand::Export { tenant } => {
            let plans = verax.warm_plans(tenant.as_deref()).await?;
            let schedules = verax.schedules(tenant.as_deref()).await?;
            let file = DefinitionFile::of(plans, schedules);
            if output.json { output.json(&file) } else { output.line(plan_file::text(&file)?) }
        }
    }
}

fn table_of(plans: &[WarmPlan]) -> String {
    let row = |plan: &WarmPlan| {
        let spec = &plan.spec;
        let mut by_itself = Vec::new();
        if let Some(after) = &spec.after_invalidation {
            by_itself.push(format!("after an invalidation ({} s quiet)", after.quiet_seconds));
        }
        if spec.after_start {
            by_itself.push("after a start".to_owned());
        }
        vec![
            format!("{}/{}", plan.tenant, plan.name),
            spec.namespace.clone(),
            figures::number_of(spec.keys.len() as u64, "source of keys", "sources of keys"),
            if by_itself.is_empty() { "–".to_owned() } else { by_itself.join(", ") },
            moment(plan.changed_at),
            spec.note.clone(),
        ]
    };
    let titles = ["plan", "namespace", "keys", "runs by itself", "changed", "note"];
    table(&titles, plans.iter().map(row))
}

/// What a file would do to a plan or a schedule.
#[derive(serde::Serialize)]
struct ImportedChange {
    kind: &'static str,
    path: String,
    change: &'static str,
}

async fn import(
    verax: &Client,
    output: Output,
    file: DefinitionFile,
    yes: bool,
    dry_run: bool,
) -> Result<(), Failure> {
    let present = DefinitionFile::of(verax.warm_plans(None).await?, verax.schedules(None).await?);
    let of = |kind, path: &String, before: Option<bool>| ImportedChange {
        kind,
        path: path.clone(),
        change: match before {
            None => "create",
            Some(false) => "change",
            Some(true) => "same",
        },
    };
    let plans = file.plans.iter().map(|(path, spec)| {
        of("warm plan", path, present.plans.get(path).map(|before| before == spec))
    });
    let schedules = file.schedules.iter().map(|(path, spec)| {
        of("schedule", path, present.schedules.get(path).map(|before| before == spec))
    });
    let changes: Vec<ImportedChange> = plans.chain(schedules).collect();
    let count = changes.iter().filter(|change| change.change != "same").count() as u64;
    let row = |c: &ImportedChange| vec![c.change.to_owned(), c.kind.to_owned(), c.path.clone()];
    let shown = table(&["change", "what", "name"], changes.iter().map(row));
    if dry_run || count == 0 {
        return output.answer(&changes, |_| match count {
            0 => "nothing to change: all of it is there already".to_owned(),
            _ => shown,
        });
    }
    output.remark(&shown);
    let what = figures::number_of(count, "definition is", "definitions are");
    confirm(yes, &format!("{what} created or replaced"))?;
    for change in changes.iter().filter(|change| change.change != "same") {
        apply(verax, &file, change).await?;
    }
    output.answer(&changes, |_| format!("{what} in place"))
}

async fn apply(
    verax: &Client,
    file: &DefinitionFile,
    change: &ImportedChange,
) -> Result<(), Failure> {
    let (tenant, name) = DefinitionFile::split(&change.path).map_err(Failure::usage)?;
    let always = DefinitionCondition::Always;
    if let Some(spec) = file.plans.get(&change.path).filter(|_| change.kind == "warm plan") {
        verax.put_warm_plan(tenant, name, spec, &always).await?;
    } else if let Some(spec) = file.schedules.get(&change.path) {
        verax.put_schedule(tenant, name, spec, &always).await?;
    }
    Ok(())
}
