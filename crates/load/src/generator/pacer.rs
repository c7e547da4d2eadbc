//! Says when the requests of an open loop are due, from a thread that does nothing else: the timers
//! of a runtime are too coarse for it.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use rand_chacha::ChaCha8Rng;
use tokio::sync::mpsc;
use verax_core::load::{ArrivalClock, ReplayClock, Steering, Timeline};

use super::backlog::Backlog;

/// How many due requests of a lane wait for a client. Beyond that the pacer waits; their latency
/// counts from when they were due all the same.
pub(super) const MAX_DUE: usize = 65_536;

/// How far ahead the pacer looks, which is how long a change of the load takes.
const HORIZON: Duration = Duration::from_millis(20);

/// How long it waits for room among the due requests.
const FULL: Duration = Duration::from_millis(1);

/// What a pacer works by.
#[derive(Debug)]
pub(super) struct Pace {
    pub(super) timeline: Timeline,
    pub(super) clock: DueClock,
    /// How much of the load is this generator's, unless its clock knows.
    pub(super) of: u32,
    pub(super) began: Instant,
    pub(super) steering: Arc<Mutex<Steering>>,
    /// Where the due requests of each lane go.
    pub(super) lanes: Vec<(mpsc::Sender<Due>, Backlog)>,
}

/// A request that is due.
#[derive(Debug, Clone, Copy)]
pub(super) struct Due {
    pub(super) at: Instant,
    /// The index of the key that a recording names.
    pub(super) key: Option<u32>,
}

/// Says when requests are due.
#[derive(Debug)]
pub(super) enum DueClock {
    Rate(Box<ArrivalClock<ChaCha8Rng>>),
    Recorded(ReplayClock),
}

impl DueClock {
    /// The next request before `until`; `level` is what the whole load is at a moment.
    fn next(
        &mut self,
        until: Duration,
        of: u32,
        level: impl Fn(Duration) -> f64,
    ) -> Option<(Duration, Option<u32>)> {
        match self {
            Self::Rate(clock) => {
                let share = |elapsed| level(elapsed) / f64::from(of);
                clock.next(until, share).map(|at| (at, None))
            }
            Self::Recorded(clock) => clock.next(until, level).map(|(at, key)| (at, Some(key))),
        }
    }
}

/// The thread, which ends when this is dropped.
#[derive(Debug)]
pub(super) struct Pacer {
    stopped: Arc<AtomicBool>,
    late_nanos: Arc<AtomicU64>,
    thread: Option<JoinHandle<()>>,
}

impl Pacer {
    /// Starts the thread.
    ///
    /// # Errors
    /// The system's, if it has no thread.
    pub(super) fn start(pace: Pace) -> std::io::Result<Self> {
        let (stopped, late_nanos) = <(Arc<AtomicBool>, Arc<AtomicU64>)>::default();
        let (stop, late) = (Arc::clone(&stopped), Arc::clone(&late_nanos));
        let thread = std::thread::Builder::new().name("pacer".into());
        let thread = Some(thread.spawn(move || pace.keep(&stop, &late))?);
        Ok(Self { stopped, late_nanos, thread })
    }

    /// The longest delay since the last call with which a request was passed on that was due.
    pub(super) fn late(&self) -> Duration {
        Duration::from_nanos(self.late_nanos.swap(0, Ordering::Relaxed))
    }
}

impl Drop for Pacer {
    fn drop(&mut self) {
        self.stopped.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            // It ends within its horizon.
            let _ = thread.join();
        }
    }
}

impl Pace {
    fn keep(self, stopped: &AtomicBool, late_nanos: &AtomicU64) {
        let Self { timeline, mut clock, of, began, steering, lanes } = self;
        let level = |elapsed| {
            let steering = *steering.lock().unwrap_or_else(PoisonError::into_inner);
            timeline.at(elapsed).map_or(0.0, |moment| steering.level(moment))
        };
        let mut looked = Duration::ZERO;
        while !stopped.load(Ordering::Relaxed) && looked < timeline.length() {
            let until = looked + HORIZON;
            while let Some((at, key)) = clock.next(until, of, level) {
                let due = Due { at: began + at, key };
                sleep_until(due.at);
                if stopped.load(Ordering::Relaxed) {
                    return;
                }
                let late = u64::try_from(due.at.elapsed().as_nanos()).unwrap_or(u64::MAX);
                late_nanos.fetch_max(late, Ordering::Relaxed);
                let Some(moment) = timeline.at(at) else { continue };
                for (number, (lane, backlog)) in lanes.iter().enumerate() {
                    if !timeline.is_active(number, moment.round) {
                        continue;
                    }
                    backlog.due();
                    if !pass_on(lane, due, stopped) {
                        return;
                    }
                }
            }
            looked = until;
            sleep_until(began + looked);
        }
    }
}

/// Passes a due request on to a lane, when it has room; false if the pacer is stopped meanwhile.
fn pass_on(lane: &mpsc::Sender<Due>, due: Due, stopped: &AtomicBool) -> bool {
    while let Err(mpsc::error::TrySendError::Full(_)) = lane.try_send(due) {
        if stopped.load(Ordering::Relaxed) {
            return false;
        }
        std::thread::sleep(FULL);
    }
    true
}

fn sleep_until(moment: Instant) {
    let left = moment.saturating_duration_since(Instant::now());
    if !left.is_zero() {
        std::thread::sleep(left);
    }
}
