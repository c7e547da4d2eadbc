//! Load runs: checked and remembered here, carried out by a [`LoadRunner`].

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use tokio::sync::watch;
use verax_api::{
    LoadProfileSpec, LoadProgress, LoadReport, LoadRequest, LoadRun, ProfileChoice, duration_of,
    moment,
};
use verax_core::access::{Right, Scope};
use verax_core::load::{Lane, LaneFigures, LoadProfile};
use verax_core::{Key, KeyPattern, Name};
use verax_origin::Origin;
use verax_records::RunState;

use super::keys::target_of;
use super::table::Watched;
use crate::access::Caller;
use crate::control::Control;
use crate::error::{ControlError, Subject};

/// A load run, ready to be carried out.
#[derive(Debug, Clone)]
pub struct LoadPlan {
    /// What to do.
    pub profile: LoadProfile,
    /// The tenant of the namespace that the cached lane reads.
    pub tenant: Name,
    /// The namespace that the cached lane reads.
    pub namespace: Name,
    /// A token that opens it for as long as the run lasts.
    pub token: String,
    /// The keys, most popular first.
    pub keys: Vec<Key>,
    /// The origin that the direct lane reads.
    pub origin: Arc<Origin>,
    /// Turns a key into the origin's values.
    pub key_pattern: KeyPattern,
}

/// Is told of every second of a load run.
pub type ProgressSink = Arc<dyn Fn(LoadProgress) + Send + Sync>;

/// Becomes true when a load run is to end early.
pub type StopSignal = watch::Receiver<bool>;

/// A run under way.
pub type RunningLoad = Pin<Box<dyn Future<Output = Result<LoadReport, String>> + Send>>;

/// Carries load runs out. The service knows only this much of it, so that it does not depend on the
/// client that the lanes read with.
pub trait LoadRunner: fmt::Debug + Send + Sync {
    /// Runs a plan to its end, or until it is stopped; the error is why it could not be run.
    fn run(&self, plan: LoadPlan, progress: ProgressSink, stop: StopSignal) -> RunningLoad;
}

/// Frees the one place for a load run when the run is over, however it ends.
struct RunSlot(Arc<AtomicBool>);

impl Drop for RunSlot {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Release);
    }
}

/// `tenant/namespace`, read.
fn place_of(path: &str) -> Result<(Name, Name), ControlError> {
    let invalid = || ControlError::Invalid(format!("{path:?} is not TENANT/NAMESPACE"));
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
    /// The load profiles that the service was started with and whose namespaces the caller manages.
    pub fn load_profiles(&self, caller: &Caller) -> Vec<LoadProfileSpec> {
        let manages = |spec: &&LoadProfileSpec| {
            place_of(&spec.namespace).is_ok_and(|(tenant, namespace)| {
                caller.needs_within(Right::Manage, &tenant, &namespace).is_ok()
            })
        };
        self.profiles.iter().filter(manages).cloned().collect()
    }

    /// Starts a load run. One runs at a time, since two would measure each other.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the profile, a run under way, or the records.
    pub async fn start_load_run(
        self: &Arc<Self>,
        caller: &Caller,
        request: &LoadRequest,
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
        caller.needs(Scope::within(Right::Manage, &tenant, &name))?;
        let namespace = self.registry.namespace(&tenant, &name)?;
        let runner =
            self.load_runner().ok_or(ControlError::Busy("the service is still starting"))?;
        let profile = profile_of(&spec)?;
        if self.load_running.swap(true, Ordering::AcqRel) {
            return Err(ControlError::Conflict(
                "a load run is under way already: wait for its end, or stop it".into(),
            ));
        }
        let place = RunSlot(Arc::clone(&self.load_running));
        let target = target_of(&namespace, spec.pattern.as_deref(), &spec.values).await?;
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
        let (control, caller) = (Arc::clone(self), caller.clone());
        // Once it is written down it runs, whether or not its caller waits for that.
        let started = tokio::spawn(async move {
            let begun = control.begin_run(&caller, namespace, (&title, detail), run).await?;
            let (id, run) = begun;
            let watched = Arc::clone(&run);
            plan.token =
                control.tokens.lend(Caller::service(&format!("load run {id}"), vec![lent]));
            tokio::spawn(async move {
                control.run_load(id, &run, &*runner, plan).await;
                drop(place);
            });
            Ok(watched)
        });
        started.await.unwrap_or(Err(ControlError::Busy("the run did not start; try again")))
    }

    async fn run_load(
        &self,
        id: u64,
        run: &Arc<Watched<LoadRun>>,
        runner: &dyn LoadRunner,
        plan: LoadPlan,
    ) {
        let token = plan.token.clone();
        let told = Arc::clone(run);
        let progress = Arc::new(move |progress: LoadProgress| {
            told.change(|run| {
                run.ticks.push(progress.tick);
                run.report = Some(progress.so_far);
            });
        });
        let stop = run.stop_signal();
        let outcome = self.drive(id, run, runner.run(plan, progress, stop.clone())).await;
        self.tokens.take_back(&token);
        self.access_changed();
        let (report, reason, ended) = match outcome {
            Ok(report) if *stop.borrow() => (Some(report), None, RunState::Stopped),
            Ok(report) if let Some(reason) = nothing_read(&report) => {
                (Some(report), Some(reason), RunState::Failed)
            }
            Ok(report) => (Some(report), None, RunState::Done),
            Err(reason) => (None, Some(reason), RunState::Failed),
        };
        self.finish_run(id, run, ended, |last| {
            last.report = report.or_else(|| last.report.take());
            last.reason = reason;
        })
        .await;
    }

    /// A load run of this process.
    ///
    /// # Errors
    /// [`ControlError`]: the run, or the scope.
    pub fn load_run(
        &self,
        caller: &Caller,
        id: u64,
    ) -> Result<Arc<Watched<LoadRun>>, ControlError> {
        // A run that the caller may not see reads like one that does not exist.
        let unknown = || ControlError::Unknown(Subject::Run(id));
        let run = self.load_runs.get(id).ok_or_else(unknown)?;
        let (tenant, name) = (run.namespace.tenant(), run.namespace.name());
        caller.needs_within(Right::Manage, tenant, name).map_err(|_| unknown())?;
        Ok(run)
    }

    /// Ends a load run early; what it measured so far is its report.
    ///
    /// # Errors
    /// [`ControlError`]: the run, or the scope.
    pub fn stop_load_run(&self, caller: &Caller, id: u64) -> Result<(), ControlError> {
        self.load_run(caller, id)?.stop();
        Ok(())
    }

    /// The latest load runs that the caller manages, newest first.
    pub async fn recent_load_runs(&self, caller: &Caller) -> Vec<LoadRun> {
        self.recent_runs(caller).await
    }
}
/// Why a run has nothing to compare: a lane read nothing at all.
fn nothing_read(report: &LoadReport) -> Option<String> {
    let failed = |figures: &LaneFigures| figures.requests > 0 && figures.errors == figures.requests;
    let lanes = [(Lane::Cached, &report.cached), (Lane::Direct, &report.direct)];
    let (lane, _) = lanes.into_iter().find(|(_, figures)| failed(figures))?;
    let prefix = format!("{}: ", lane.name());
    let said = report.errors.iter().find_map(|(text, _)| text.strip_prefix(&prefix));
    Some(format!(
        "every read of the {} lane failed, most with: {}",
        lane.name(),
        said.unwrap_or("an error that was too rare to be named")
    ))
}
