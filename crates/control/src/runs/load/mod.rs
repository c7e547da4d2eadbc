//! Load runs: validated and recorded here, run by a [`LoadRunner`].

mod active;
mod clocks;
mod compare;
mod import;
mod join;
mod joined;
mod place;
mod profiles;
mod replay;
mod steer;
mod target;

use std::sync::Arc;

use verax_api::{
    LoadDoubt, LoadProfileSpec, LoadProgress, LoadReport, LoadRequest, LoadRun, OfferedProfile,
    ProfileChoice, WorkerState, moment,
};
use verax_core::Timestamp;
use verax_core::access::{Right, Scope};
use verax_core::load::{Doubt, MAX_WORKERS};
use verax_records::RunState;

use self::clocks::ServiceClock;
pub(super) use self::place::place_of;
use super::lent::LentToken;
use super::lifecycle::{NewLife, RunEnd};
use super::runner::{JoinedGenerator, LoadControls, LoadPlan, LoadRunner};
use super::table::{RunOf, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError, Overload};
use crate::invalid::InvalidInput;
use crate::subject::Subject;

pub(crate) use self::active::ActiveLoad;
pub use self::join::MAX_WORKER_NAME;
pub(crate) use self::joined::JoinedWorkers;
pub use self::joined::WorkerPlace;
pub use self::profiles::load_profile_tag;
pub use self::steer::MAX_MARK_CHARACTERS;

/// A run of a profile that begins now, without an identifier yet.
fn new_run(profile: LoadProfileSpec, now: Timestamp) -> LoadRun {
    LoadRun {
        id: 0,
        profile,
        state: RunState::Running.name().into(),
        started_at: moment(now),
        reason: None,
        report: None,
        ticks: Vec::new(),
        first_tick: 0,
        marks: Vec::new(),
        workers: Vec::new(),
        paused: false,
        is_imported: false,
    }
}

impl Control {
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

    /// The profile that a request names or brings.
    async fn profile_of(
        &self,
        caller: &Caller,
        request: &LoadRequest,
    ) -> Result<LoadProfileSpec, ControlError> {
        match &request.profile {
            ProfileChoice::Inline(spec) => Ok((**spec).clone()),
            ProfileChoice::Named(name) => {
                // Two tenants may have profiles of one name.
                let (tenant, bare) = name
                    .split_once('/')
                    .map_or((None, &**name), |(tenant, name)| (Some(tenant), name));
                let is_named = |profile: &OfferedProfile| {
                    profile.spec.name == bare && tenant.is_none_or(|of| profile.tenant == of)
                };
                let found = self.load_profiles(caller).await.into_iter().find(is_named);
                let found = found.map(|profile| profile.spec);
                found.ok_or_else(|| ControlError::Unknown(Subject::Profile(name.clone())))
            }
        }
    }

    /// Starts a load run for a slot of a schedule.
    pub(crate) async fn start_load_run_for(
        self: &Arc<Self>,
        caller: &Caller,
        request: &LoadRequest,
        of_slot: Option<(u64, Timestamp)>,
    ) -> Result<Arc<Watched<LoadRun>>, ControlError> {
        let mut spec = self.profile_of(caller, request).await?;
        let (tenant, name) = place_of(&spec.namespace)?;
        caller.needs(Scope::within(Right::Load, &tenant, &name))?;
        let namespace = self.registry.namespace(&tenant, &name)?;
        let runner = self.load_runner().ok_or(Overload::Starting)?;
        let replayed = match spec.arrivals.recording {
            Some(recording) => Some(self.replayed(caller, recording).await?),
            None => None,
        };
        if let Some(replayed) = &replayed {
            // As long as the recording takes.
            let length = replayed.reads.length.as_secs_f64() / spec.arrivals.speed.unwrap_or(1.0);
            spec.duration_seconds.get_or_insert(length);
        }
        let profile = spec.profile().map_err(ControlError::invalid)?;
        let fewest = if request.joined { 0 } else { 1 };
        if !(fewest..=MAX_WORKERS).contains(&request.workers) {
            let (what, range) = ("the number of workers", fewest..=MAX_WORKERS);
            return Err(InvalidInput::OutOfRange { what, value: request.workers, range }.into());
        }
        let scopes = target::scopes(&profile, &tenant, &name);
        // The right to load includes that to read; what changes entries is held separately.
        for scope in &scopes[1..] {
            caller.needs(scope.clone())?;
        }
        if request.joined && !self.joined_workers.any_for(&namespace, &scopes) {
            return Err(Conflict::NoJoinedWorkers.into());
        }
        let slot = self.load_slot.take().ok_or(Conflict::LoadRunActive)?;
        let lanes = self.load_targets(caller, &namespace, &profile)?;
        let (keys, recorded) = match replayed {
            Some(replayed) => self.keys_to_replay(&namespace, &spec, &profile, replayed).await?,
            None => (self.keys_of(&namespace, &spec.keys).await?.keys, None),
        };
        profile.popularity.chooser(keys.len()).map_err(ControlError::invalid)?;
        Self::check_load_keys(&namespace, &lanes, &keys)?;
        let title = if spec.title.is_empty() { &spec.name } else { &spec.title };
        let (title, detail) = (title.clone(), serde_json::json!({ "profile": spec.name }));
        let run = new_run(spec, self.engine.now());
        let (workers, takes_joined) = (request.workers, request.joined);
        let token = String::new();
        let mut plan = LoadPlan { profile, token, lanes, keys, recorded, workers };
        let (of, slot) = (RunOf::Namespace(namespace), Some(slot));
        let new = NewLife { of, title, detail, run, slot, of_slot, id: None };
        let (control, starter) = (Arc::clone(self), caller.clone());
        self.start_run(caller, new, move |id, run| async move {
            let joined = match (&run.of, takes_joined) {
                (RunOf::Namespace(namespace), true) => {
                    control.joined_workers.take_for(namespace, &scopes)
                }
                _ => Vec::new(),
            };
            let lent = LentToken::lend(&control, &format!("load run {id}"), scopes);
            plan.token.clone_from(&lent.token);
            control.run_load(&starter, &run, &*runner, plan, joined).await
        })
        .await
    }

    async fn run_load(
        self: &Arc<Self>,
        caller: &Caller,
        run: &Arc<Watched<LoadRun>>,
        runner: &dyn LoadRunner,
        plan: LoadPlan,
        joined: Vec<JoinedGenerator>,
    ) -> RunEnd<LoadRun> {
        let (_hold, steering) = self.active_load.hold(run, &plan.profile);
        let (watched, control) = (Arc::clone(run), Arc::clone(self));
        let clock = match &run.of {
            RunOf::Namespace(namespace) => Some(ServiceClock::new(namespace.statistics())),
            RunOf::Service => None,
        };
        let progress = Arc::new(move |progress: LoadProgress| {
            if progress.workers.iter().all(|worker| worker.state != WorkerState::Starting) {
                control.active_load.begin();
            }
            let mut tick = progress.tick;
            if let (Some(tick), Some(clock)) = (&mut tick, &clock) {
                tick.service = clock.tick();
            }
            watched.change(|run| {
                run.ticks.extend(tick);
                run.report = progress.so_far.or_else(|| run.report.take());
                run.workers = progress.workers;
                active::add_marks(run, progress.marks);
            });
        });
        let stop = run.stop_signal();
        let controls = LoadControls { joined, progress, steering, stop: stop.clone() };
        let outcome = runner.run(plan, controls).await;
        let is_stopped = *stop.borrow();
        let (report, reason, state) = match outcome {
            Ok(mut report) if is_stopped => {
                report.doubts.push(LoadDoubt::from(&Doubt::Stopped));
                (Some(report), None, RunState::Stopped)
            }
            Ok(mut report) => match nothing_read(&report) {
                Some(reason) => (Some(report), Some(reason), RunState::Failed),
                None => {
                    report.against_baseline = self.against_baseline(caller, &run.now()).await;
                    (Some(report), None, RunState::Done)
                }
            },
            // Before it began: there is nothing to report.
            Err(_) if is_stopped && run.view(|run| run.ticks.is_empty()) => {
                (None, None, RunState::Stopped)
            }
            Err(reason) => (None, Some(reason), RunState::Failed),
        };
        let change = Box::new(move |last: &mut LoadRun| {
            last.report = report.or_else(|| last.report.take());
            last.reason = reason;
            last.paused = false;
        });
        RunEnd { state, change }
    }
}

/// Why a run has nothing to compare: a lane read nothing.
fn nothing_read(report: &LoadReport) -> Option<String> {
    let failed = report
        .lanes
        .iter()
        .find(|lane| lane.figures.requests > 0 && lane.figures.errors == lane.figures.requests)?;
    let most_frequent = report.errors.iter().find(|errors| errors.lane == failed.name);
    Some(format!(
        "every request of the lane {} failed, most with: {}",
        failed.name,
        most_frequent.map_or("an error that was not recorded", |errors| &errors.message)
    ))
}
