//! Warm plans: what a tenant fills ahead of time, kept by name.

use std::ops::RangeInclusive;
use std::sync::{Arc, PoisonError};

use verax_api::{WarmPlan, WarmPlanSpec, moment};
use verax_core::access::{Right, Scope};
use verax_core::{EntityTag, Name};
use verax_records::{DefinitionKind, DefinitionPath, DefinitionRecord};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::expected::Expected;
use crate::invalid::InvalidInput;
use crate::limits;
use crate::runs::{check_sources, settings_of};
use crate::subject::Subject;

/// The most plans of a tenant.
const MAX_PLANS: usize = 500;

/// The longest note of a plan, in characters.
const MAX_NOTE: usize = 200;

/// The most bytes of a plan.
const MAX_PLAN_BYTES: usize = 1 << 20;

/// How long a namespace must be without another invalidation, in seconds.
pub const QUIET_SECONDS: RangeInclusive<f64> = 0.1..=60.0;

/// How long a run after an invalidation is put off at most, in seconds.
pub const WITHIN_SECONDS: RangeInclusive<f64> = 0.1..=600.0;

fn within(
    what: &'static str,
    seconds: f64,
    range: RangeInclusive<f64>,
) -> Result<(), ControlError> {
    match range.contains(&seconds) {
        true => Ok(()),
        false => Err(InvalidInput::TimeOutOfRange { what, seconds, range }.into()),
    }
}

/// The entity tag of a plan (RFC 9110, section 8.8.3); equal plans have equal tags.
pub fn plan_tag(spec: &WarmPlanSpec) -> EntityTag {
    EntityTag::of("application/json", &serde_json::to_vec(spec).unwrap_or_default())
}

fn path_of(tenant: &Name, name: &Name) -> DefinitionPath {
    let kind = DefinitionKind::WarmPlan;
    DefinitionPath { kind, tenant: tenant.clone(), name: name.clone() }
}

/// A plan as the API shows it; `None` for one of a later version.
fn to_api(record: DefinitionRecord) -> Option<WarmPlan> {
    Some(WarmPlan {
        tenant: record.tenant.to_string(),
        name: record.name.to_string(),
        changed_at: moment(record.changed_at),
        spec: serde_json::from_value(record.content).ok()?,
    })
}

/// Whether a caller may see and run a plan: that of a namespace it may warm.
fn may_run(caller: &Caller, tenant: &str, spec: &WarmPlanSpec) -> bool {
    caller.holds_within(Right::Warm, tenant, &spec.namespace)
}

impl Control {
    /// The plans of namespaces that a caller may warm, of one tenant or of all, by name.
    ///
    /// # Errors
    /// [`ControlError`]: the records.
    pub async fn warm_plans(
        &self,
        caller: &Caller,
        tenant: Option<&Name>,
    ) -> Result<Vec<WarmPlan>, ControlError> {
        let records = self.records.definitions(DefinitionKind::WarmPlan, tenant).await?;
        let plans = records.into_iter().filter_map(to_api);
        Ok(plans.filter(|plan| may_run(caller, &plan.tenant, &plan.spec)).collect())
    }

    /// A plan.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn warm_plan(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<WarmPlan, ControlError> {
        let plans = self.warm_plans(caller, Some(tenant)).await?;
        let found = plans.into_iter().find(|plan| plan.name == name.as_str());
        found.ok_or_else(|| ControlError::Unknown(Subject::WarmPlan(format!("{tenant}/{name}"))))
    }

    /// Creates or replaces a plan, if what is there is what `expected` names.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the plan, or the records.
    pub async fn put_warm_plan(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        spec: &WarmPlanSpec,
        expected: Expected,
    ) -> Result<WarmPlan, ControlError> {
        self.check_plan(caller, tenant, spec)?;
        let (caller, path, spec) = (caller.clone(), path_of(tenant, name), spec.clone());
        self.administer(async move |control| {
            control.check_plan(&caller, &path.tenant, &spec)?;
            let all = control.records.definitions(path.kind, Some(&path.tenant)).await?;
            let present = all.iter().find(|plan| plan.name == path.name);
            let present = present.and_then(|record| to_api(record.clone()));
            if let Some(present) = &present {
                // One of another namespace is not this caller's to replace.
                let scope = Right::Warm;
                caller.needs_named(scope, &present.tenant, &present.spec.namespace)?;
            } else {
                limits::check("warm plans of the tenant", all.len(), MAX_PLANS)?;
            }
            if !expected.includes_present(present.as_ref().map(|plan| plan_tag(&plan.spec))) {
                return Err(ControlError::NotExpected("warm plan"));
            }
            control.note_invalidations(&path.tenant, &path.name, &spec.namespace);
            let record = control.write_definition(&caller, &path, &spec).await?;
            to_api(record).ok_or_else(|| ControlError::Unknown(Subject::WarmPlan(String::new())))
        })
        .await
    }

    /// Deletes a plan. Its active run goes on.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn delete_warm_plan(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<(), ControlError> {
        let (caller, path) = (caller.clone(), path_of(tenant, name));
        self.administer(async move |control| {
            control.warm_plan(&caller, &path.tenant, &path.name).await?;
            control.remove_definition(&caller, &path).await
        })
        .await
    }

    /// Notes up to which invalidation a plan need not follow any.
    fn note_invalidations(&self, tenant: &Name, plan: &Name, namespace: &str) {
        if let Some(found) = self.registry.find(tenant.as_str(), namespace) {
            let mut noted =
                self.invalidations_before.lock().unwrap_or_else(PoisonError::into_inner);
            noted.insert((tenant.clone(), plan.clone()), found.statistics().invalidations());
        }
    }

    /// Checks what can be checked without finding the keys.
    fn check_plan(
        &self,
        caller: &Caller,
        tenant: &Name,
        spec: &WarmPlanSpec,
    ) -> Result<(), ControlError> {
        let namespace = Name::new(&*spec.namespace).map_err(ControlError::invalid)?;
        caller.needs(Scope::within(Right::Warm, tenant, &namespace))?;
        let registered = self.registry.namespace(tenant, &namespace)?;
        if spec.note.chars().count() > MAX_NOTE {
            return Err(InvalidInput::Note { max: MAX_NOTE }.into());
        }
        if let Some(after) = &spec.after_invalidation {
            within("quiet_seconds", after.quiet_seconds, QUIET_SECONDS)?;
            within("within_seconds", after.within_seconds, WITHIN_SECONDS)?;
        }
        let bytes = serde_json::to_vec(spec).map_or(0, |text| text.len());
        if bytes > MAX_PLAN_BYTES {
            return Err(InvalidInput::PlanTooLarge { bytes, most: MAX_PLAN_BYTES }.into());
        }
        settings_of(&spec.request())?;
        check_sources(&registered, &spec.keys)
    }
}
