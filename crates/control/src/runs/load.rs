//! Load runs: validated and recorded here, run by a [`LoadRunner`].

use std::sync::Arc;

use verax_api::{
    LoadDoubt, LoadProfileSpec, LoadProgress, LoadReport, LoadRequest, LoadRun, ProfileChoice,
    duration_of, moment,
};
use verax_core::access::{Right, Scope};
use verax_core::load::{Doubt, Lane, LaneFigures, LoadProfile};
use verax_core::{Name, Timestamp};
use verax_records::RunState;

use super::lent::LentToken;
use super::lifecycle::{NewLife, RunEnd};
use super::runner::{LoadPlan, LoadRunner};
use super::table::{RunOf, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError, Overload};
use crate::invalid::InvalidInput;
use crate::subject::Subject;

/// `tenant/namespace`, read.
fn place_of(path: &str) -> Result<(Name, Name), ControlError> {
    let invalid = || InvalidInput::Path(path.to_owned());
    let (tenant, namespace) = path.split_once('/').ok_or_else(invalid)?;
    let read = |text| Name::new(text).map_err(ControlError::invalid);
    Ok((read(tenant)?, read(namespace)?))
}

fn profile_of(spec: &LoadProfileSpec) -> Result<LoadProfile, ControlError> {
    let seconds = |field, value| duration_of(field, value).map_err(ControlError::invalid);
    let profile = LoadProfile {
        name: Name::new(&*spec.name).map_err(ControlError::invalid)?,
        clients: spec.clients,
        warm_up: seconds("warm_up_seconds", spec.warm_up_seconds)?,
        duration: seconds("duration_seconds", spec.duration_seconds)?,
        popularity: spec.popularity,
        seed: spec.seed,
    };
    profile.check().map_err(ControlError::invalid)?;
    Ok(profile)
}

impl Control {
    /// The configured load profiles whose namespaces the caller may load-test.
    pub fn load_profiles(&self, caller: &Caller) -> Vec<LoadProfileSpec> {
        let may_load = |spec: &&LoadProfileSpec| {
            place_of(&spec.namespace).is_ok_and(|(tenant, namespace)| {
                caller.needs_within(Right::Load, &tenant, &namespace).is_ok()
            })
        };
        self.profiles.iter().filter(may_load).cloned().collect()
    }

    /// Starts a load run. One runs at a time: two would distort each other's figures.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the profile, an active run, or the records.
    pub async fn start_load_run(
        self: &Arc<Self>,
        caller: &Caller,
        request: &LoadRequest,
    ) -> Result<Arc<Watched<LoadRun>>, ControlError> {
        self.start_load_run_for(caller, request, None).await
    }

    /// Starts a load run for a slot of a schedule.
    pub(crate) async fn start_load_run_for(
        self: &Arc<Self>,
        caller: &Caller,
        request: &LoadRequest,
        of_slot: Option<(u64, Timestamp)>,
    ) -> Result<Arc<Watched<LoadRun>>, ControlError> {
        let spec = match &request.profile {
            ProfileChoice::Inline(spec) => (**spec).clone(),
            ProfileChoice::Named(name) => {
                let known = self.load_profiles(caller);
                let found = known.into_iter().find(|spec| spec.name == *name);
                found.ok_or_else(|| ControlError::Unknown(Subject::Profile(name.clone())))?
            }
        };
        let (tenant, name) = place_of(&spec.namespace)?;
        caller.needs(Scope::within(Right::Load, &tenant, &name))?;
        let namespace = self.registry.namespace(&tenant, &name)?;
        let runner = self.load_runner().ok_or(Overload::Starting)?;
        let profile = profile_of(&spec)?;
        let slot = self.load_slot.take().ok_or(Conflict::LoadRunActive)?;
        let target = self.target_of(&namespace, spec.pattern.as_deref(), &spec.values).await?;
        profile.popularity.chooser(target.keys.len()).map_err(ControlError::invalid)?;
        let now = self.engine.now();
        let title = if spec.title.is_empty() { &spec.name } else { &spec.title };
        let (title, detail) = (title.clone(), serde_json::json!({ "profile": spec.name }));
        let run = LoadRun {
            id: 0,
            profile: spec,
            state: RunState::Running.name().into(),
            started_at: moment(now),
            reason: None,
            report: None,
            ticks: Vec::new(),
        };
        let lent = Scope::within(Right::Read, &tenant, &name);
        let mut plan = LoadPlan {
            profile,
            token: String::new(),
            tenant,
            namespace: name,
            keys: target.keys,
            origin: target.origin,
            key_pattern: target.pattern,
        };
        let (of, slot) = (RunOf::Namespace(namespace), Some(slot));
        let new = NewLife { of, title, detail, run, slot, of_slot, id: None };
        let control = Arc::clone(self);
        self.start_run(caller, new, move |id, run| async move {
            let lent = LentToken::lend(&control, &format!("load run {id}"), vec![lent]);
            plan.token.clone_from(&lent.token);
            control.run_load(&run, &*runner, plan).await
        })
        .await
    }

    async fn run_load(
        &self,
        run: &Arc<Watched<LoadRun>>,
        runner: &dyn LoadRunner,
        plan: LoadPlan,
    ) -> RunEnd<LoadRun> {
        let watched = Arc::clone(run);
        let progress = Arc::new(move |progress: LoadProgress| {
            watched.change(|run| {
                run.ticks.push(progress.tick);
                run.report = Some(progress.so_far);
            });
        });
        let stop = run.stop_signal();
        let outcome = runner.run(plan, progress, stop.clone()).await;
        let (report, reason, state) = match outcome {
            Ok(mut report) if *stop.borrow() => {
                report.doubts.push(LoadDoubt::from(&Doubt::Stopped));
                (Some(report), None, RunState::Stopped)
            }
            Ok(report) if let Some(reason) = nothing_read(&report) => {
                (Some(report), Some(reason), RunState::Failed)
            }
            Ok(report) => (Some(report), None, RunState::Done),
            Err(reason) => (None, Some(reason), RunState::Failed),
        };
        let change = Box::new(move |last: &mut LoadRun| {
            last.report = report.or_else(|| last.report.take());
            last.reason = reason;
        });
        RunEnd { state, change }
    }
}

/// Why a run has nothing to compare: a lane read nothing.
fn nothing_read(report: &LoadReport) -> Option<String> {
    let failed = |figures: &LaneFigures| figures.requests > 0 && figures.errors == figures.requests;
    let lanes = [(Lane::Cached, &report.cached), (Lane::Direct, &report.direct)];
    let (lane, _) = lanes.into_iter().find(|(_, figures)| failed(figures))?;
    let most_frequent = report.errors.iter().find(|errors| errors.lane == lane);
    Some(format!(
        "every read of the {} lane failed, most with: {}",
        lane.name(),
        most_frequent.map_or("an error that was not recorded", |errors| &errors.message)
    ))
}
