//! Warm plans that run by themselves: after an invalidation, and after a start.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use verax_api::{AfterInvalidation, FreshChoice, OverlapChoice, StartWarmRun, WarmPlanSpec};
use verax_core::access::{Right, Scope};
use verax_core::{Name, Timestamp};
use verax_records::DefinitionRecord;

use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::runs::WarmCause;

/// How often the hottest keys are kept.
const KEEP_EVERY: Duration = Duration::from_secs(30);

/// A plan that runs by itself.
struct Triggered {
    tenant: Name,
    name: Name,
    spec: WarmPlanSpec,
    /// The invalidations of its namespace that were seen.
    seen: Option<u64>,
    /// The first and the latest invalidation that no run followed yet.
    pending: Option<(Timestamp, Timestamp)>,
}

/// The plans that run by themselves.
pub(super) struct Triggers {
    plans: Vec<Triggered>,
    kept_at: Option<Timestamp>,
}

fn seconds(seconds: f64) -> Duration {
    Duration::try_from_secs_f64(seconds).unwrap_or_default()
}

impl Triggers {
    /// Those of some plans; one that was there keeps what it has seen.
    pub(super) fn new(
        control: &Control,
        records: &[DefinitionRecord],
        before: Option<Self>,
    ) -> Self {
        let mut noted = std::mem::take(
            &mut *control.invalidations_before.lock().unwrap_or_else(PoisonError::into_inner),
        );
        let kept_at = before.as_ref().and_then(|before| before.kept_at);
        let mut known: HashMap<(Name, Name), Triggered> = before
            .into_iter()
            .flat_map(|before| before.plans)
            .map(|plan| ((plan.tenant.clone(), plan.name.clone()), plan))
            .collect();
        let plan = |record: &DefinitionRecord| {
            let spec: WarmPlanSpec = serde_json::from_value(record.content.clone()).ok()?;
            if spec.after_invalidation.is_none() && !spec.after_start {
                return None;
            }
            let (tenant, name) = (record.tenant.clone(), record.name.clone());
            let path = (tenant.clone(), name.clone());
            let (before, noted) = (known.remove(&path), noted.remove(&path));
            let before = before.filter(|before| before.spec.namespace == spec.namespace);
            let seen = before.as_ref().and_then(|before| before.seen).or(noted);
            let pending = before.and_then(|before| before.pending);
            Some(Triggered { tenant, name, spec, seen, pending })
        };
        Self { plans: records.iter().filter_map(plan).collect(), kept_at }
    }

    /// Runs the plans that follow a start.
    pub(super) fn after_start(&self, control: &Arc<Control>) {
        for plan in self.plans.iter().filter(|plan| plan.spec.after_start) {
            plan.begin(control, "the start of Verax");
        }
    }

    /// Runs the plans that follow an invalidation, and keeps hot keys for the next start.
    pub(super) async fn follow(&mut self, control: &Arc<Control>, now: Timestamp) {
        for plan in &mut self.plans {
            if let Some(after) = plan.spec.after_invalidation.clone()
                && plan.is_due(control, &after, now)
            {
                plan.begin(control, "an invalidation");
            }
        }
        if self.kept_at.is_none_or(|kept| now.since(kept) >= KEEP_EVERY) {
            self.kept_at = Some(now);
            for plan in self.plans.iter().filter(|plan| plan.spec.after_start) {
                control.keep_hottest(&plan.tenant, &plan.spec.namespace, now).await;
            }
        }
    }
}

impl Triggered {
    fn is_due(&mut self, control: &Control, after: &AfterInvalidation, now: Timestamp) -> bool {
        let found = control.registry.find(self.tenant.as_str(), &self.spec.namespace);
        let Some(namespace) = found else { return false };
        let count = namespace.statistics().invalidations();
        match self.seen.replace(count) {
            Some(seen) if seen != count => {
                let first = self.pending.map_or(now, |(first, _)| first);
                self.pending = Some((first, now));
            }
            _ => {}
        }
        let Some((first, latest)) = self.pending else { return false };
        let due = now.since(latest) >= seconds(after.quiet_seconds)
            || now.since(first) >= seconds(after.within_seconds);
        if due {
            self.pending = None;
        }
        due
    }

    /// Refills what is missing of the plan's keys, in a task of its own.
    fn begin(&self, control: &Arc<Control>, cause: &'static str) {
        let (control, tenant, name) = (Arc::clone(control), self.tenant.clone(), self.name.clone());
        let mut spec = self.spec.clone();
        spec.fresh = FreshChoice::Skip;
        tokio::spawn(async move {
            let begun = control.run_after(&tenant, &name, &spec, cause).await;
            match begun {
                // The run that waits refills what is missing when it begins.
                Ok(()) | Err(ControlError::Conflict(Conflict::WarmRunQueued { .. })) => {}
                Err(error) => {
                    let plan = format!("{tenant}/{name}");
                    tracing::warn!(plan, %error, "a warm plan did not run after {cause}");
                }
            }
        });
    }
}

impl Control {
    async fn run_after(
        self: &Arc<Self>,
        tenant: &Name,
        plan: &Name,
        spec: &WarmPlanSpec,
        cause: &str,
    ) -> Result<(), ControlError> {
        let namespace = Name::new(&*spec.namespace).map_err(ControlError::invalid)?;
        let scopes = vec![Scope::within(Right::Warm, tenant, &namespace)];
        let caller = Caller::service(&format!("warm plan {tenant}/{plan} after {cause}"), scopes);
        let text = format!("after {cause}");
        let plan = Some(plan.to_string());
        let cause = WarmCause { plan, text, slot: None, by_itself: true };
        let start = StartWarmRun { overlap: Some(OverlapChoice::Queue), ..StartWarmRun::default() };
        self.warm_by_plan(&caller, tenant, spec, &start, cause).await.map(drop)
    }

    async fn keep_hottest(&self, tenant: &Name, namespace: &str, now: Timestamp) {
        let Some(found) = self.registry.find(tenant.as_str(), namespace) else { return };
        let hot = found.hottest(verax_core::heat::MAX_KEYS).keys;
        if hot.is_empty() {
            return;
        }
        let keys: Vec<String> = hot.into_iter().map(|hot| hot.key).collect();
        if let Err(error) = self.records.keep_hottest(found.id(), &keys, now).await {
            tracing::debug!(%error, "hot keys are kept later");
        }
    }
}
