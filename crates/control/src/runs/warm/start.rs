//! Starting warm runs.

use std::sync::Arc;

use verax_api::{KeySource, StartWarmRun, WarmPlanSpec, WarmRequest, WarmRun, moment};
use verax_core::access::{Right, Scope};
use verax_core::warm::Overlap;
use verax_core::{Name, Timestamp};
use verax_engine::Warmer;
use verax_records::RunState;

use super::execute::Execution;
use super::settings::{overlap_of, settings_of};
use super::work::WarmWork;
use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::invalid::InvalidInput;
use crate::registry::Registered;
use crate::runs::lifecycle::NewLife;
use crate::runs::table::{RunOf, Watched};

/// What starts a run.
#[derive(Debug, Clone, Default)]
pub(crate) struct WarmCause {
    /// The plan, by name.
    pub(crate) plan: Option<String>,
    /// Who or what starts it, for people.
    pub(crate) text: String,
    /// The slot of a schedule, by the schedule's identifier.
    pub(crate) slot: Option<(u64, Timestamp)>,
    /// Whether nobody asked for it, so that nobody sees a refusal.
    pub(crate) by_itself: bool,
}

impl Control {
    /// Starts a warm run without a plan.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the keys and settings, or the records.
    pub async fn start_warm_run(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        request: &WarmRequest,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        caller.needs(Scope::within(Right::Warm, tenant, name))?;
        let namespace = self.registry.namespace(tenant, name)?;
        let text = caller.actor().as_str().to_owned();
        let cause = WarmCause { plan: None, text, ..WarmCause::default() };
        self.warm(caller, &namespace, request, cause).await
    }

    /// Starts a run of a plan.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the plan, what it names, an active run of it, or the records.
    pub async fn start_plan_run(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        plan: &Name,
        start: &StartWarmRun,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        let found = self.warm_plan(caller, tenant, plan).await?;
        let (text, plan) = (caller.actor().as_str().to_owned(), Some(plan.to_string()));
        let cause = WarmCause { plan, text, ..WarmCause::default() };
        self.warm_by_plan(caller, tenant, &found.spec, start, cause).await
    }

    pub(crate) async fn warm_by_plan(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        spec: &WarmPlanSpec,
        start: &StartWarmRun,
        cause: WarmCause,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        let name = Name::new(&*spec.namespace).map_err(ControlError::invalid)?;
        caller.needs(Scope::within(Right::Warm, tenant, &name))?;
        let namespace = self.registry.namespace(tenant, &name)?;
        let mut request = spec.request();
        if !start.keys.is_empty() {
            request.keys.insert(0, KeySource::List(start.keys.clone()));
        }
        request.overlap = start.overlap.unwrap_or(request.overlap);
        self.warm(caller, &namespace, &request, cause).await
    }

    async fn warm(
        self: &Arc<Self>,
        caller: &Caller,
        namespace: &Arc<Registered>,
        request: &WarmRequest,
        cause: WarmCause,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        let settings = settings_of(request)?;
        check_sources(namespace, request, cause.by_itself)?;
        let overlap = overlap_of(request.overlap);
        // Before its keys are found, which may take long, and once more before it starts.
        if let Some(active) = self.overlapping(namespace, &cause, overlap)?.joined {
            return Ok(active);
        }
        let found = self.keys_of(namespace, &request.keys).await?;
        let work = WarmWork::new(namespace, request, settings, found);
        let _one_at_a_time = self.warm_starts.lock().await;
        let name = cause.plan.as_deref().map_or_else(|| "a warm run".to_owned(), str::to_owned);
        let Overlapping { joined, after } = self.overlapping(namespace, &cause, overlap)?;
        if let Some(active) = joined {
            return Ok(active);
        }
        let started = self.start_warm_work(caller, namespace, work, cause, after).await?;
        self.mark_change(namespace, format!("warming: {name}"));
        Ok(started)
    }

    /// What a start has to do with active runs of its plan.
    fn overlapping(
        &self,
        namespace: &Registered,
        cause: &WarmCause,
        overlap: Overlap,
    ) -> Result<Overlapping, ControlError> {
        let Some(plan) = &cause.plan else { return Ok(Overlapping::default()) };
        let all = self.warm_runs.all();
        let of_plan = |run: &&(u64, Arc<Watched<WarmRun>>)| {
            let now = run.1.now();
            !run.1.has_ended()
                && now.plan.as_ref() == Some(plan)
                && now.tenant == namespace.tenant().as_str()
        };
        let mut active: Vec<_> = all.iter().filter(of_plan).collect();
        let Some((id, latest)) = active.first() else { return Ok(Overlapping::default()) };
        match overlap {
            Overlap::Refuse => Err(Conflict::WarmRunActive { run: *id }.into()),
            Overlap::Join => Ok(Overlapping { joined: Some(Arc::clone(latest)), after: None }),
            Overlap::Queue if active.len() > 1 => Err(Conflict::WarmRunQueued { run: *id }.into()),
            Overlap::Queue => Ok(Overlapping {
                joined: None,
                after: active.pop().map(|(_, run)| Arc::clone(run)),
            }),
        }
    }

    async fn start_warm_work(
        self: &Arc<Self>,
        caller: &Caller,
        namespace: &Arc<Registered>,
        work: WarmWork,
        cause: WarmCause,
        after: Option<Arc<Watched<WarmRun>>>,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        let mut run = new_run(namespace, &cause, work.keys.len() as u64, self.engine.now());
        if after.is_some() {
            run.phase = "queued".into();
        }
        if work.keys.is_empty() {
            run.warnings.push("the plan names no key now: there is nothing to refill".into());
        }
        let title = cause.plan.clone().unwrap_or_else(|| work.source_names.join(", "));
        let detail = serde_json::json!({ "keys": work.keys.len(), "plan": cause.plan });
        let of = RunOf::Namespace(Arc::clone(namespace));
        let new = NewLife { of, title, detail, run, slot: None, of_slot: cause.slot, id: None };
        let warmer = Warmer::open(Arc::clone(namespace.namespace()));
        let control = Arc::clone(self);
        self.start_run(caller, new, move |id, run| async move {
            control.keep_warm_work(id, &work).await;
            if let Some(after) = after {
                run.wait_for(&after).await;
            }
            Execution::new(control, warmer, work, run, id, 0).execute().await
        })
        .await
    }

    /// Keeps what a run needs to be resumed. Without it the run goes on, and ends with the process.
    async fn keep_warm_work(&self, id: u64, work: &WarmWork) {
        if let Err(error) = self.records.keep_work(id, &work.kept()).await {
            tracing::warn!(%error, run = id, "a warm run cannot be resumed after a restart");
        }
    }
}

/// What a start has to do with active runs of its plan.
#[derive(Default)]
struct Overlapping {
    /// The run to follow instead.
    joined: Option<Arc<Watched<WarmRun>>>,
    /// The run to wait for.
    after: Option<Arc<Watched<WarmRun>>>,
}

/// Checks that there is something to refill from, and room for it beside readers.
pub(super) fn check_sources(
    namespace: &Registered,
    request: &WarmRequest,
    by_itself: bool,
) -> Result<(), ControlError> {
    let binding = namespace.binding();
    match &binding.origin {
        None if request.max_age_seconds.is_some() => {
            Err(InvalidInput::MaxAgeOfServices(namespace.path()).into())
        }
        None if namespace.namespace().has_refillers(by_itself) => Ok(()),
        None => Err(InvalidInput::NothingToWarmFrom(namespace.path()).into()),
        Some(origin) if origin.max_concurrency() < 2 => {
            let origin = binding.policy.origin.as_ref().map(|choice| choice.origin.to_string());
            Err(InvalidInput::NoPlaceToWarm(origin.unwrap_or_default()).into())
        }
        Some(_) => Ok(()),
    }
}

fn new_run(namespace: &Registered, cause: &WarmCause, keys: u64, now: Timestamp) -> WarmRun {
    WarmRun {
        id: 0,
        tenant: namespace.tenant().to_string(),
        namespace: namespace.name().to_string(),
        plan: cause.plan.clone(),
        cause: cause.text.clone(),
        state: RunState::Running.name().into(),
        phase: "refilling".into(),
        reason: None,
        started_at: moment(now),
        elapsed_ms: 0.0,
        keys,
        stored: 0,
        skipped: 0,
        no_value: 0,
        failed: 0,
        bytes: 0,
        per_second: 0.0,
        seconds_left: None,
        origin_concurrency: 0.0,
        position: 0,
        resumed: 0,
        warnings: Vec::new(),
        failure_counts: Vec::new(),
        failures: Vec::new(),
    }
}
