//! Warm plans and schedules in a file, which people can keep under version control.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{Schedule, ScheduleSpec, WarmPlan, WarmPlanSpec};

/// What a file of definitions holds. The names are TENANT/NAME.
///
/// ```
/// let file: verax_api::DefinitionFile = serde_json::from_str(
///     r#"{ "plans": { "ferrydesk/mornings": {
///         "namespace": "boards", "keys": [{ "hottest": 50 }]
///     } } }"#,
/// )?;
/// assert_eq!(file.plans["ferrydesk/mornings"].namespace, "boards");
/// # Ok::<(), serde_json::Error>(())
/// ```
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DefinitionFile {
    /// Warm plans.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub plans: BTreeMap<String, WarmPlanSpec>,
    /// Schedules.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub schedules: BTreeMap<String, ScheduleSpec>,
}

impl DefinitionFile {
    /// The file of some plans and schedules.
    pub fn of(plans: Vec<WarmPlan>, schedules: Vec<Schedule>) -> Self {
        let plan = |plan: WarmPlan| (format!("{}/{}", plan.tenant, plan.name), plan.spec);
        let schedule = |s: Schedule| (format!("{}/{}", s.tenant, s.name), s.spec);
        Self {
            plans: plans.into_iter().map(plan).collect(),
            schedules: schedules.into_iter().map(schedule).collect(),
        }
    }

    /// The tenant and the name of a definition's path.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn split(path: &str) -> Result<(&str, &str), String> {
        let parts = path
            .split_once('/')
            .filter(|(tenant, name)| !tenant.is_empty() && !name.is_empty() && !name.contains('/'));
        parts.ok_or_else(|| format!("{path:?} is not TENANT/NAME, such as \"ferrydesk/mornings\""))
    }
}
