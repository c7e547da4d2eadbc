//! The conductor of a run: starts the generators, has them begin together, merges what they count,
//! and ends the run.

mod measured;
mod worker;

use std::collections::BTreeMap;
use std::pin::Pin;
use std::time::Duration;

use tokio::sync::{mpsc, watch};
use tokio::time::Instant;
use verax_api::{
    LoadMark, LoadMarkKind, LoadProgress, LoadReport, LoadTick, LoadWorker, MachineTick,
    ServiceTick, WorkerState,
};
use verax_core::Key;
use verax_core::load::{
    Arrivals, Doubt, LaneRecorder, LaneTarget, LoadProfile, MAX_REQUESTS, RecordedReads, Steering,
    StopWatch, Timeline,
};

use self::measured::{Measured, MergedTick};
use self::worker::{Worker, WorkerEvent};
use crate::machine::{ProcessorTime, ProcessorUse, resident_bytes};
use crate::message::{Assignment, GeneratedTick, Order, PackedReads, Report, ServiceAddress};

pub use self::worker::{FromGenerator, StartGenerator, StartedGenerator, Starting, ToGenerator};

/// How long generators may take until they can begin.
const READY_WITHIN: Duration = Duration::from_secs(30);

/// How long after a tick should have ended a generator may report it. One that takes longer is
/// lost.
const TICK_WITHIN: Duration = Duration::from_secs(10);

/// How long generators may take to end.
const END_WITHIN: Duration = Duration::from_secs(5);

/// How many ticks a generator may be ahead of the slowest one.
const MAX_AHEAD: u32 = 60;

/// How many reports of generators wait to be merged.
const MAX_EVENTS: usize = 256;

/// A load run, ready to start.
#[derive(Debug, Clone)]
pub struct RunPlan {
    /// The profile.
    pub profile: LoadProfile,
    /// What each of its lanes reads.
    pub lanes: Vec<LaneTarget>,
    /// The keys, most popular first, or those of a recording by their index.
    pub keys: Vec<Key>,
    /// The traffic to replay, for a profile that replays some.
    pub recorded: Option<RecordedReads>,
    /// How generators reach the service.
    pub service: ServiceAddress,
    /// How many generators share the run.
    pub workers: u32,
}

/// What is known of a generator.
struct Known {
    worker: Worker,
    view: LoadWorker,
    highest_per_second: Vec<f64>,
    /// The ticks that not all generators have reported yet.
    ticks: BTreeMap<u32, GeneratedTick>,
}

impl Known {
    fn is_alive(&self) -> bool {
        matches!(self.view.state, WorkerState::Starting | WorkerState::Running)
    }
}

/// Receives the progress of a run.
type Progress<'p> = Box<dyn Fn(LoadProgress) + Send + 'p>;

/// A run under way.
struct Conductor<'p> {
    profile: LoadProfile,
    timeline: Timeline,
    workers: Vec<Known>,
    events: mpsc::Receiver<(usize, WorkerEvent)>,
    progress: Progress<'p>,
    measured: Measured,
    stop_watch: StopWatch,
    /// The next tick to merge, and where it begins.
    next: u32,
    begin: Duration,
    /// When the generators began; `None` before.
    began: Option<Instant>,
    marks: Vec<LoadMark>,
    doubts: Vec<Doubt>,
    processors: ProcessorUse,
    /// The processors' time at the last tick, and when measuring began.
    last: Option<ProcessorTime>,
    measuring_since: Option<ProcessorTime>,
    steering: watch::Receiver<Steering>,
}

/// Runs a plan until it ends or `stop` turns true, and returns the figures after the warm-up.
/// `progress` receives every second; `steering` changes the load meanwhile.
///
/// # Errors
/// Why it could not run.
pub fn conduct<'p>(
    plan: RunPlan,
    start: &'p dyn StartGenerator,
    steering: watch::Receiver<Steering>,
    stop: watch::Receiver<bool>,
    progress: impl Fn(LoadProgress) + Send + 'p,
) -> Pin<Box<dyn Future<Output = Result<LoadReport, String>> + Send + 'p>> {
    conduct_boxed(plan, start, steering, stop, Box::new(progress))
}

/// The work of [`conduct`], in a box: every crate that awaits it would compile it again otherwise.
fn conduct_boxed<'p>(
    plan: RunPlan,
    start: &'p dyn StartGenerator,
    steering: watch::Receiver<Steering>,
    mut stop: watch::Receiver<bool>,
    progress: Progress<'p>,
) -> Pin<Box<dyn Future<Output = Result<LoadReport, String>> + Send + 'p>> {
    Box::pin(async move {
        plan.profile.check().map_err(|e| e.to_string())?;
        plan.profile.popularity.chooser(plan.keys.len()).map_err(|e| e.to_string())?;
        if matches!(plan.profile.arrivals, Arrivals::Recorded { .. }) && plan.recorded.is_none() {
            return Err("there is no recording to replay".into());
        }
        let mut conductor = Conductor::start(plan, start, steering, progress).await?;
        if !conductor.ready(&mut stop).await? {
            return Err("the run was stopped before it began".into());
        }
        conductor.run(&mut stop).await;
        conductor.end().await;
        conductor.report()
    })
}

impl<'p> Conductor<'p> {
    /// Starts the generators and tells each what to do.
    async fn start(
        plan: RunPlan,
        start: &dyn StartGenerator,
        steering: watch::Receiver<Steering>,
        progress: Progress<'p>,
    ) -> Result<Self, String> {
        let RunPlan { profile, lanes, keys, recorded, service, workers: of } = plan;
        let (sender, events) = mpsc::channel(MAX_EVENTS);
        let pace = recorded.as_ref().map(RecordedReads::per_second);
        let measured = Measured::new(&profile, keys.len(), pace);
        let recorded = recorded.as_ref().map(PackedReads::of);
        let texts: Vec<String> = keys.iter().map(|key| key.as_str().to_owned()).collect();
        let mut workers = Vec::new();
        for share in 0..of {
            let started = start.start().await;
            let started = started.map_err(|e| format!("no process to generate load: {e}"))?;
            let machine = started.machine.clone();
            let worker = Worker::new(share as usize, started, sender.clone());
            let assignment = Assignment {
                profile: profile.clone(),
                lanes: lanes.clone(),
                keys: texts.clone(),
                service: service.clone(),
                recorded: recorded.clone(),
                share,
                of,
            };
            worker.order(Order::Prepare(Box::new(assignment)));
            let view = LoadWorker {
                number: share + 1,
                process: None,
                machine,
                state: WorkerState::Starting,
                highest_per_second: None,
            };
            let (highest_per_second, ticks) = (Vec::new(), BTreeMap::new());
            workers.push(Known { worker, view, highest_per_second, ticks });
        }
        Ok(Self {
            timeline: Timeline::of(&profile),
            stop_watch: StopWatch::new(profile.stop_when, profile.lanes.len()),
            profile,
            workers,
            events,
            progress,
            measured,
            next: 0,
            begin: Duration::ZERO,
            began: None,
            marks: Vec::new(),
            doubts: Vec::new(),
            processors: ProcessorUse::start(),
            last: None,
            measuring_since: None,
            steering,
        })
    }

    /// Waits until the generators can begin, without those that are lost before; false if the run
    /// was stopped.
    ///
    /// # Errors
    /// Why the first generator was lost, if none is left.
    async fn ready(&mut self, stop: &mut watch::Receiver<bool>) -> Result<bool, String> {
        let deadline = Instant::now() + READY_WITHIN;
        let mut first = None;
        while self.workers.iter().any(|known| known.view.state == WorkerState::Starting) {
            let event = tokio::select! {
                event = self.events.recv() => event,
                _ = stop.wait_for(|stop| *stop) => return Ok(false),
                () = tokio::time::sleep_until(deadline) => None,
            };
            let lost = match event {
                Some((number, event)) => self.take_ready(number, event),
                None => {
                    let why = format!("it was not ready within {} s", READY_WITHIN.as_secs());
                    self.lose_where(&why, |known| known.view.state == WorkerState::Starting);
                    Some(why)
                }
            };
            first = first.or(lost);
        }
        if !self.workers.iter().any(Known::is_alive) {
            let why = first.unwrap_or_else(|| "none was started".into());
            return Err(format!("no generator could begin: {why}"));
        }
        let lanes = 0..self.profile.lanes.len();
        let sum = |lane: usize| {
            let alive = self.workers.iter().filter(|known| known.is_alive());
            let rates = alive.map(|known| known.highest_per_second.get(lane));
            rates.map(|rate| rate.copied().unwrap_or_default()).sum()
        };
        let highest = lanes.map(sum).collect();
        self.measured.calibrated(highest);
        Ok(true)
    }

    /// Takes what a generator says before the run begins; returns why it is lost, if it is.
    fn take_ready(&mut self, number: usize, event: WorkerEvent) -> Option<String> {
        let lanes = self.profile.lanes.len();
        let known = &mut self.workers[number];
        let why = match event {
            _ if known.view.state == WorkerState::Lost => return None,
            WorkerEvent::Said(Report::Ready { process, highest_per_second })
                if known.view.state == WorkerState::Starting
                    && highest_per_second.len() == lanes
                    && highest_per_second.iter().all(|rate| (0.0..=1e9).contains(rate)) =>
            {
                known.view.process = Some(process);
                known.view.state = WorkerState::Running;
                known.view.highest_per_second = highest_per_second.iter().copied().reduce(f64::min);
                known.highest_per_second = highest_per_second;
                return None;
            }
            WorkerEvent::Said(Report::Failed(why)) | WorkerEvent::Gone(why) => why,
            WorkerEvent::Said(_) => "what it reported cannot be".into(),
        };
        self.lose(number, &why);
        Some(why)
    }

    /// Has them begin, and merges what they count until the run is over.
    async fn run(&mut self, stop: &mut watch::Receiver<bool>) {
        let steering = *self.steering.borrow_and_update();
        self.order_all(|| Order::Steer(steering));
        self.order_all(|| Order::Begin);
        let began = Instant::now();
        self.began = Some(began);
        self.processors = ProcessorUse::start();
        self.last = ProcessorTime::now();
        self.measuring_since = self.last;
        self.tell(None);
        let mut is_stopping = false;
        while self.workers.iter().any(Known::is_alive) {
            let end = self.timeline.end_of_tick(self.begin);
            let overdue = began + end + TICK_WITHIN;
            tokio::select! {
                event = self.events.recv() => match event {
                    Some((number, event)) => self.take(number, event),
                    None => return,
                },
                changed = self.steering.changed(), if !is_stopping => {
                    // Nobody can change the load of a run that its owner dropped.
                    if changed.is_ok() {
                        let steering = *self.steering.borrow_and_update();
                        self.order_all(|| Order::Steer(steering));
                    } else {
                        is_stopping = true;
                        self.order_all(|| Order::Stop);
                    }
                }
                _ = stop.wait_for(|stop| *stop), if !is_stopping => {
                    is_stopping = true;
                    self.order_all(|| Order::Stop);
                }
                () = tokio::time::sleep_until(overdue) => {
                    let next = self.next;
                    let is_late =
                        |known: &Known| known.is_alive() && !known.ticks.contains_key(&next);
                    self.lose_where("it did not report in time", is_late);
                }
            }
            if self.merge() && !is_stopping {
                is_stopping = true;
                self.order_all(|| Order::Stop);
            }
        }
    }

    fn order_all(&mut self, order: impl Fn() -> Order) {
        let is_deaf = |known: &Known| known.is_alive() && !known.worker.order(order());
        self.lose_where("it does not listen", is_deaf);
    }

    fn take(&mut self, number: usize, event: WorkerEvent) {
        match event {
            _ if !self.workers[number].is_alive() => {}
            // One of another machine may say anything.
            WorkerEvent::Said(Report::Tick(tick)) => match self.is_credible(number, &tick) {
                true => drop(self.workers[number].ticks.insert(tick.number, *tick)),
                false => self.lose(number, "what it reported cannot be"),
            },
            WorkerEvent::Said(Report::Done) => self.workers[number].view.state = WorkerState::Done,
            WorkerEvent::Said(Report::Failed(why)) | WorkerEvent::Gone(why) => {
                self.lose(number, &why);
            }
            WorkerEvent::Said(Report::Ready { .. }) => self.lose(number, "it began again"),
        }
    }

    /// Whether a generator may have counted this, at this time.
    fn is_credible(&self, number: usize, tick: &GeneratedTick) -> bool {
        let lanes = self.profile.lanes.len();
        let is_expected = (self.next..self.next.saturating_add(MAX_AHEAD)).contains(&tick.number)
            && !self.workers[number].ticks.contains_key(&tick.number);
        let is_finite = [tick.seconds, tick.at_seconds, tick.late_ms]
            .into_iter()
            .chain(tick.processors)
            .all(|figure| (0.0..=1e9).contains(&figure));
        is_expected
            && is_finite
            && tick.lanes.len() == lanes
            && tick.lanes.iter().all(|lane| LaneRecorder::from_text(lane).is_ok())
            && tick.unanswered.len() == lanes
            && tick.unanswered.iter().all(|count| *count <= MAX_REQUESTS)
            && tick.failures.iter().all(|failure| failure.lane < lanes)
            && tick.failures.iter().all(|failure| failure.count <= MAX_REQUESTS)
            && tick.memory_bytes.is_none_or(|bytes| bytes <= 1 << 48)
    }

    fn lose(&mut self, number: usize, why: &str) {
        let known = &mut self.workers[number];
        known.view.state = WorkerState::Lost;
        known.worker.put_out();
        let machine = known.view.machine.as_ref().map(|name| format!(" ({name})"));
        let machine = machine.unwrap_or_default();
        let when = if self.began.is_some() { "" } else { " before it began" };
        let text = format!("generator {}{machine} was lost{when}: {why}", known.view.number);
        let at_seconds = self.began.map_or(0.0, |began| began.elapsed().as_secs_f64());
        self.marks.push(LoadMark { at_seconds, kind: LoadMarkKind::Trouble, text });
        self.tell(None);
    }

    /// Loses every generator for which `is_lost` holds.
    fn lose_where(&mut self, why: &str, is_lost: impl Fn(&Known) -> bool) {
        let lost: Vec<usize> =
            (0..self.workers.len()).filter(|number| is_lost(&self.workers[*number])).collect();
        lost.into_iter().for_each(|number| self.lose(number, why));
    }

    /// Merges the ticks that all generators have reported; true if the run is to end early.
    fn merge(&mut self) -> bool {
        loop {
            let is_awaited =
                |known: &Known| known.is_alive() && !known.ticks.contains_key(&self.next);
            let has_reported = |known: &Known| known.ticks.contains_key(&self.next);
            if self.workers.iter().any(is_awaited) || !self.workers.iter().any(has_reported) {
                return false;
            }
            if self.merge_one() {
                return true;
            }
        }
    }

    fn merge_one(&mut self) -> bool {
        let next = self.next;
        let ticks: Vec<GeneratedTick> =
            self.workers.iter_mut().filter_map(|known| known.ticks.remove(&next)).collect();
        let lanes = self.profile.lanes.len();
        let mut merged = MergedTick {
            begin: self.begin,
            length: Duration::ZERO,
            lanes: vec![LaneRecorder::default(); lanes],
            failures: Vec::new(),
            unanswered: vec![0; lanes],
            busiest: None,
            late_ms: 0.0,
        };
        let (mut at_seconds, mut machine) = (0.0_f64, MachineTick::default());
        for tick in &ticks {
            let length = Duration::try_from_secs_f64(tick.seconds).unwrap_or_default();
            merged.length = merged.length.max(length);
            at_seconds = at_seconds.max(tick.at_seconds);
            merged.late_ms = merged.late_ms.max(tick.late_ms);
            for (sum, lane) in merged.lanes.iter_mut().zip(&tick.lanes) {
                // That it can be read was seen when it came.
                if let Ok(lane) = LaneRecorder::from_text(lane) {
                    sum.add(&lane);
                }
            }
            for (sum, count) in merged.unanswered.iter_mut().zip(&tick.unanswered) {
                *sum += count;
            }
            merged.failures.extend(tick.failures.iter().cloned());
            if let Some(processors) = tick.processors {
                merged.busiest = Some(merged.busiest.unwrap_or(0.0).max(processors));
                *machine.generator_processors.get_or_insert(0.0) += processors;
            }
            if let Some(bytes) = tick.memory_bytes {
                *machine.generator_memory_bytes.get_or_insert(0) += bytes;
            }
        }
        let now = ProcessorTime::now();
        machine.stolen = now.zip(self.last).and_then(|(now, last)| now.stolen_since(last));
        machine.service_processors = self.processors.next();
        machine.service_memory_bytes = resident_bytes();
        self.last = now;
        self.finish_tick(&merged, at_seconds, machine)
    }

    fn finish_tick(&mut self, merged: &MergedTick, at_seconds: f64, machine: MachineTick) -> bool {
        let end = self.timeline.end_of_tick(self.begin);
        let Some(moment) = self.timeline.at(self.begin) else { return true };
        if moment.stage.is_warm_up {
            self.measuring_since = self.last;
        }
        self.measured.add(merged);
        let figures = self.measured.figures_of(merged);
        let latest = self.timeline.at(end - Duration::from_nanos(1)).unwrap_or(moment);
        let tick = LoadTick {
            at_seconds,
            stage: u32::try_from(moment.stage.stage).unwrap_or(u32::MAX),
            warm_up: moment.stage.is_warm_up,
            level: self.steering.borrow().level(latest),
            lanes: figures,
            machine,
            service: ServiceTick::default(),
            histograms: merged.lanes.iter().map(LaneRecorder::response_text).collect(),
        };
        (self.next, self.begin) = (self.next + 1, end);
        let lanes = self.profile.lanes.iter().map(|lane| lane.name.as_str());
        let early = self.stop_watch.second(lanes.zip(&tick.lanes));
        self.tell(Some(tick));
        match early {
            Some(why) if !self.doubts.iter().any(|d| matches!(d, Doubt::EndedEarly(_))) => {
                let text = format!("the run ends early: {why}");
                self.marks.push(LoadMark { at_seconds, kind: LoadMarkKind::Trouble, text });
                self.doubts.push(Doubt::EndedEarly(why.to_string()));
                self.tell(None);
                true
            }
            _ => false,
        }
    }

    fn stolen(&self) -> Option<f64> {
        ProcessorTime::now()
            .zip(self.measuring_since)
            .and_then(|(now, then)| now.stolen_since(then))
    }

    /// Reports progress.
    fn tell(&mut self, tick: Option<LoadTick>) {
        let so_far = tick.as_ref().map(|_| self.measured.report(self.stolen(), &[], false));
        (self.progress)(LoadProgress {
            tick,
            so_far,
            workers: self.workers.iter().map(|known| known.view.clone()).collect(),
            marks: std::mem::take(&mut self.marks),
        });
    }

    /// Waits for generators that still say something, then ends them.
    async fn end(&mut self) {
        let deadline = Instant::now() + END_WITHIN;
        while self.workers.iter().any(Known::is_alive) {
            match tokio::time::timeout_at(deadline, self.events.recv()).await {
                Ok(Some((number, event))) => self.take(number, event),
                _ => break,
            }
            self.merge();
        }
        self.workers.iter_mut().for_each(|known| known.worker.put_out());
        self.tell(None);
    }

    fn report(mut self) -> Result<LoadReport, String> {
        let lost = self.workers.iter().filter(|known| known.view.state == WorkerState::Lost);
        let lost = u32::try_from(lost.count()).unwrap_or(u32::MAX);
        if lost > 0 {
            self.doubts.push(Doubt::WorkersLost(lost));
        }
        if self.next == 0 {
            return Err("the generators were lost before they measured anything".into());
        }
        Ok(self.measured.report(self.stolen(), &self.doubts, true))
    }
}
