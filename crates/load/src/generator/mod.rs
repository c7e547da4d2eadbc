//! A generator: sends the requests of a run, or its share of them, and counts them.
//!
//! It is told what to do by its conductor over a byte stream, usually the standard input and output
//! of a process of its own. The requests are sent from one thread, so that a generator uses one
//! processor at most; several generators share a run.

mod backlog;
mod calibration;
mod clients;
mod closed_loop;
mod counts;
mod lanes;
mod pacer;
mod responder;

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use tokio::io::{AsyncRead, AsyncWrite, BufReader};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;
use verax_core::Key;
use verax_core::load::{
    ArrivalClock, Arrivals, KeyChooser, Moment, RecordedReads, ReplayClock, Steering, Timeline,
};

use self::backlog::Backlog;
use self::clients::Lane;
use self::closed_loop::ClosedLoop;
use self::counts::{Counted, SharedCounts};
use self::lanes::LaneReader;
use self::pacer::{DueClock, MAX_DUE, Pace, Pacer};
use crate::machine::{ProcessorUse, resident_bytes};
use crate::message::{
    Assignment, GeneratedTick, MAX_ORDER_BYTES, Order, PackedReads, Receiver, Report,
    ServiceAddress, send,
};

pub(crate) use self::counts::OTHER_MESSAGES;

/// How often the number of active clients follows a ramp.
const ADJUST_EVERY: Duration = Duration::from_millis(50);

/// How many reports wait for the conductor. It may be slow for a while.
const MAX_REPORTS: usize = 64;

/// Why a generator ended without its conductor's leave.
#[derive(Debug, thiserror::Error)]
pub enum GeneratorError {
    /// The conductor cannot be understood, or is gone.
    #[error("the conductor of the load run is gone: {0}")]
    Conductor(#[from] std::io::Error),
    /// The conductor said something out of turn.
    #[error("the conductor of the load run said something unexpected: {0}")]
    Unexpected(String),
    /// The run cannot be carried out.
    #[error("{0}")]
    Run(String),
}

/// Generates load as a conductor says, until the run is over or the conductor is gone. `reach` is
/// how the service is reached from here, if not as the conductor reaches it; its token is not used.
///
/// # Errors
/// [`GeneratorError`]; the conductor is told, too.
pub async fn generate(
    orders: impl AsyncRead + Unpin,
    mut reports: impl AsyncWrite + Unpin,
    reach: Option<&ServiceAddress>,
) -> Result<(), GeneratorError> {
    let mut orders = Receiver::new(BufReader::new(orders), MAX_ORDER_BYTES);
    let outcome = serve(&mut orders, &mut reports, reach).await;
    if let Err(GeneratorError::Run(reason)) = &outcome {
        send(&mut reports, &Report::Failed(reason.clone())).await?;
    }
    outcome
}

/// What a generator's thread is told.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Told {
    steering: Steering,
    is_stopped: bool,
}

async fn serve(
    orders: &mut Receiver<BufReader<impl AsyncRead + Unpin>>,
    reports: &mut (impl AsyncWrite + Unpin),
    reach: Option<&ServiceAddress>,
) -> Result<(), GeneratorError> {
    let mut assignment = match orders.next().await? {
        Some(Order::Prepare(assignment)) => *assignment,
        other => return Err(GeneratorError::Unexpected(format!("{other:?}"))),
    };
    if let Some(reach) = reach {
        let token = std::mem::take(&mut assignment.service.token);
        assignment.service = ServiceAddress { token, ..reach.clone() };
    }
    let (tell, told) = watch::channel(Told::default());
    let (begin, begun) = tokio::sync::oneshot::channel();
    let (sender, mut said) = mpsc::channel(MAX_REPORTS);
    let thread = std::thread::Builder::new().name("generator".into());
    let thread = thread.spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        let outcome = match runtime {
            Ok(runtime) => runtime.block_on(run(assignment, begun, told, &sender)),
            Err(error) => Err(error.to_string()),
        };
        // The conductor may be gone.
        let _ = sender.blocking_send(outcome.map_or_else(Report::Failed, |()| Report::Done));
    });
    thread.map_err(|e| GeneratorError::Run(format!("no thread for the generator: {e}")))?;
    let mut begin = Some(begin);
    loop {
        tokio::select! {
            report = said.recv() => match report {
                Some(Report::Failed(reason)) => return Err(GeneratorError::Run(reason)),
                Some(report) => {
                    send(reports, &report).await?;
                    if matches!(report, Report::Done) {
                        return Ok(());
                    }
                }
                None => return Err(GeneratorError::Run("the generator failed".into())),
            },
            order = orders.next() => match order? {
                Some(Order::Begin) => {
                    if let Some(begin) = begin.take() {
                        let _ = begin.send(());
                    }
                }
                Some(Order::Steer(steering)) => tell.send_modify(|told| told.steering = steering),
                Some(Order::Stop) => {
                    tell.send_modify(|told| told.is_stopped = true);
                    // One that has not begun has nothing to say.
                    begin.take();
                }
                Some(Order::Prepare(_)) => {
                    return Err(GeneratorError::Unexpected("a second assignment".into()));
                }
                // Nobody would hear it. Dropping what it is told by ends the thread.
                None => return Ok(()),
            }
        }
    }
}

/// The generator's own thread.
async fn run(
    assignment: Assignment,
    begun: tokio::sync::oneshot::Receiver<()>,
    told: watch::Receiver<Told>,
    sender: &mpsc::Sender<Report>,
) -> Result<(), String> {
    assignment.profile.check().map_err(|e| e.to_string())?;
    let keys: Result<Arc<[Key]>, _> =
        assignment.keys.iter().map(|key| Key::new(key.as_str())).collect();
    let keys = keys.map_err(|e| e.to_string())?;
    let chooser = assignment.profile.popularity.chooser(keys.len()).map_err(|e| e.to_string())?;
    let readers: Result<Vec<LaneReader>, _> =
        assignment.lanes.iter().map(|lane| LaneReader::open(lane, &assignment.service)).collect();
    let readers = readers?;
    let highest_per_second = calibration::measure(&assignment).await?;
    let process = std::process::id();
    let ready = Report::Ready { process, highest_per_second };
    if sender.send(ready).await.is_err() || begun.await.is_err() {
        return Ok(());
    }
    let recorded = assignment.recorded.as_ref().map(PackedReads::unpack).transpose();
    let recorded = recorded.map_err(|e| e.to_string())?.map(Arc::new);
    let lanes = lanes(&assignment, readers, &keys, &chooser);
    Generator::new(assignment, lanes, told, recorded)?.run(sender).await;
    Ok(())
}

fn lanes(
    assignment: &Assignment,
    readers: Vec<LaneReader>,
    keys: &Arc<[Key]>,
    chooser: &KeyChooser,
) -> Vec<Lane> {
    let profile = &assignment.profile;
    let clients = profile.arrivals.most_clients(profile.stages.highest(), assignment.of);
    let lane = |reader| Lane {
        reader,
        counts: SharedCounts::default(),
        backlog: Backlog::default(),
        keys: Arc::clone(keys),
        chooser: chooser.clone(),
        mix: profile.mix,
        seed: profile.seed,
        began: Instant::now(),
        clients,
    };
    let mut lanes: Vec<Lane> = readers.into_iter().map(lane).collect();
    let began = Instant::now();
    lanes.iter_mut().for_each(|lane| lane.began = began);
    lanes
}

/// A generator that has begun.
struct Generator {
    assignment: Assignment,
    timeline: Timeline,
    lanes: Vec<Lane>,
    began: Instant,
    told: watch::Receiver<Told>,
    steering: Arc<Mutex<Steering>>,
    tasks: JoinSet<()>,
    closed_loop: Option<ClosedLoop>,
    /// In an open loop.
    pacer: Option<Pacer>,
}

impl Generator {
    fn new(
        assignment: Assignment,
        lanes: Vec<Lane>,
        told: watch::Receiver<Told>,
        recorded: Option<Arc<RecordedReads>>,
    ) -> Result<Self, String> {
        let began = lanes.first().map_or_else(Instant::now, |lane| lane.began);
        let steering = Arc::new(Mutex::new(told.borrow().steering));
        let timeline = Timeline::of(&assignment.profile);
        let mut tasks = JoinSet::new();
        let closed_loop = ClosedLoop::of(&assignment.profile.arrivals, lanes.len());
        let clock = due_clock(&assignment, recorded)?;
        let pacer = match clock {
            Some((clock, max_in_flight)) => {
                let mut senders = Vec::new();
                for lane in &lanes {
                    let (sender, due) = mpsc::channel(MAX_DUE);
                    senders.push((sender, lane.backlog.clone()));
                    let due = Arc::new(tokio::sync::Mutex::new(due));
                    for client in 0..max_in_flight {
                        let number = client * assignment.of + assignment.share;
                        tasks.spawn(lane.clone().open_loop(number, Arc::clone(&due)));
                    }
                }
                let pace = Pace {
                    timeline: timeline.clone(),
                    clock,
                    of: assignment.of,
                    began,
                    steering: Arc::clone(&steering),
                    lanes: senders,
                };
                Some(Pacer::start(pace).map_err(|e| format!("no thread to pace: {e}"))?)
            }
            None => None,
        };
        Ok(Self { assignment, timeline, lanes, began, told, steering, tasks, closed_loop, pacer })
    }

    /// Sends the requests, and reports every second of them.
    async fn run(mut self, sender: &mpsc::Sender<Report>) {
        let mut processors = ProcessorUse::start();
        let mut counted: Vec<Counted> = self.lanes.iter().map(|_| Counted::default()).collect();
        let (mut number, mut begin, mut measured) = (0, Duration::ZERO, Duration::ZERO);
        while let Some(moment) = self.timeline.at(begin) {
            let end = self.timeline.end_of_tick(begin);
            let is_stopped = self.until(end, moment).await;
            let now = self.began.elapsed();
            let length = now.saturating_sub(measured);
            measured = now;
            let mut tick = GeneratedTick {
                number,
                at_seconds: now.as_secs_f64(),
                seconds: length.as_secs_f64(),
                lanes: Vec::with_capacity(self.lanes.len()),
                failures: Vec::new(),
                unanswered: self.lanes.iter().map(|lane| lane.backlog.left()).collect(),
                processors: processors.next(),
                memory_bytes: resident_bytes(),
                late_ms: self.pacer.as_ref().map_or(0.0, |pacer| pacer.late().as_secs_f64() * 1e3),
            };
            for (lane, counted) in counted.iter_mut().enumerate() {
                self.lanes[lane].counts.swap(counted);
                tick.lanes.push(counted.recorder.to_text());
                tick.failures.extend(counted.take_failures(lane));
                counted.recorder.reset();
            }
            if sender.send(Report::Tick(Box::new(tick))).await.is_err() || is_stopped {
                break;
            }
            (number, begin) = (number + 1, end);
        }
        self.pacer.take();
        self.tasks.shutdown().await;
    }

    /// Follows the load until a tick ends; returns whether the run was stopped.
    async fn until(&mut self, end: Duration, moment: Moment) -> bool {
        loop {
            let told = match self.told.has_changed() {
                Ok(_) => *self.told.borrow_and_update(),
                // The conductor is gone.
                Err(_) => return true,
            };
            if told.is_stopped {
                return true;
            }
            *self.steering.lock().unwrap_or_else(PoisonError::into_inner) = told.steering;
            self.adjust(moment, told.steering);
            let now = self.began.elapsed();
            if now >= end {
                return false;
            }
            let next = end.min(now + ADJUST_EVERY);
            tokio::select! {
                () = tokio::time::sleep_until((self.began + next).into()) => {}
                changed = self.told.changed() => if changed.is_err() { return true },
            }
        }
    }

    /// Lets as many clients of a closed loop be active as the load says.
    fn adjust(&mut self, moment: Moment, steering: Steering) {
        let Some(closed_loop) = &mut self.closed_loop else { return };
        let now = self.timeline.at(self.began.elapsed()).unwrap_or(moment);
        let level = steering.level(now);
        for (number, lane) in self.lanes.iter().enumerate() {
            let level = if self.timeline.is_active(number, now.round) { level } else { 0.0 };
            closed_loop.adjust(number, lane, level, &self.assignment, &mut self.tasks);
        }
    }
}

/// What says when the requests of an open loop are due, and the most in flight; `None` in a closed
/// loop.
fn due_clock(
    assignment: &Assignment,
    recorded: Option<Arc<RecordedReads>>,
) -> Result<Option<(DueClock, u32)>, String> {
    let Assignment { share, of, profile, .. } = assignment;
    Ok(match (profile.arrivals, recorded) {
        (Arrivals::Open { spacing, max_in_flight }, _) => {
            let random = ChaCha8Rng::seed_from_u64(profile.seed ^ (u64::from(*share) << 48));
            let clock = ArrivalClock::new(spacing, *share, *of, random);
            Some((DueClock::Rate(Box::new(clock)), max_in_flight))
        }
        (Arrivals::Recorded { max_in_flight }, Some(recorded)) => {
            let clock = ReplayClock::new(recorded, *share, *of);
            Some((DueClock::Recorded(clock), max_in_flight))
        }
        (Arrivals::Recorded { .. }, None) => {
            return Err("there is no recording to replay".into());
        }
        (Arrivals::Closed { .. } | Arrivals::Instances { .. }, _) => None,
    })
}
