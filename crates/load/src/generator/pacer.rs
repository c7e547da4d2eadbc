//! Says when the requests of an open loop are due, from a thread that does nothing else: the timers
//! of a runtime are too coarse for it.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use tokio::sync::mpsc;
use verax_core::load::{ArrivalClock, Spacing, Steering, Timeline};

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
    pub(super) spacing: Spacing,
    pub(super) seed: u64,
    pub(super) share: u32,
    pub(super) of: u32,
    pub(super) began: Instant,
    pub(super) steering: Arc<Mutex<Steering>>,
    /// Where the due requests of each lane go.
    pub(super) lanes: Vec<mpsc::Sender<Instant>>,
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
    /// The requests per second of this generator at a moment.
    fn rate(&self, elapsed: Duration) -> f64 {
        let steering = *self.steering.lock().unwrap_or_else(PoisonError::into_inner);
        let moment = self.timeline.at(elapsed);
        moment.map_or(0.0, |moment| steering.level(moment.stage)) / f64::from(self.of)
    }

    fn keep(&self, stopped: &AtomicBool, late_nanos: &AtomicU64) {
        let random = ChaCha8Rng::seed_from_u64(self.seed ^ (u64::from(self.share) << 48));
        let mut clock = ArrivalClock::new(self.spacing, self.share, self.of, random);
        let mut looked = Duration::ZERO;
        while !stopped.load(Ordering::Relaxed) && looked < self.timeline.length() {
            let until = looked + HORIZON;
            while let Some(at) = clock.next(until, |elapsed| self.rate(elapsed)) {
                let due = self.began + at;
                sleep_until(due);
                if stopped.load(Ordering::Relaxed) {
                    return;
                }
                let late = u64::try_from(due.elapsed().as_nanos()).unwrap_or(u64::MAX);
                late_nanos.fetch_max(late, Ordering::Relaxed);
                self.pass_on(at, due, stopped);
            }
            looked = until;
            sleep_until(self.began + looked);
        }
    }

    /// Passes a due request on to each lane that has its turn.
    fn pass_on(&self, at: Duration, due: Instant, stopped: &AtomicBool) {
        let Some(moment) = self.timeline.at(at) else { return };
        for (number, lane) in self.lanes.iter().enumerate() {
            if !self.timeline.is_active(number, moment.round) {
                continue;
            }
            while let Err(mpsc::error::TrySendError::Full(_)) = lane.try_send(due) {
                if stopped.load(Ordering::Relaxed) {
                    return;
                }
                std::thread::sleep(FULL);
            }
        }
    }
}

fn sleep_until(moment: Instant) {
    let left = moment.saturating_duration_since(Instant::now());
    if !left.is_zero() {
        std::thread::sleep(left);
    }
}
