//! A run: the clients of both lanes, and a report every second.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;
use verax_api::{LoadDoubt, LoadProgress, LoadReport, LoadTick, ReadErrors};
use verax_core::Key;
use verax_core::load::{
    Comparison, KeyChooser, Lane, LaneRecorder, LoadProfile, Outcome, PairedSlice, doubts,
};

use crate::lane::{CachedLane, DirectLane, LaneReader};
use crate::stolen::ProcessorTime;

/// How many distinct messages are counted for each lane.
const MAX_ERRORS: usize = 100;

/// How many messages of each lane a report lists.
const LISTED_ERRORS: usize = 5;

/// How long a client pauses after an error, so as not to spin.
const PAUSE_AFTER_ERROR: Duration = Duration::from_millis(10);

/// A load run, ready to start.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The profile.
    pub profile: LoadProfile,
    /// The keys, most popular first.
    pub keys: Vec<Key>,
    /// Reads through Verax.
    pub cached: CachedLane,
    /// Reads the origin.
    pub direct: DirectLane,
}

/// The counts of a lane's clients since the last report.
#[derive(Debug, Default)]
struct Counted {
    recorder: LaneRecorder,
    errors: ErrorCounts,
}

/// How often each message was the reason of a failed read. Messages beyond [`MAX_ERRORS`] are not
/// kept; the recorder counts their reads.
#[derive(Debug, Default)]
struct ErrorCounts(HashMap<String, u64>);

impl ErrorCounts {
    fn add(&mut self, message: String, count: u64) {
        if self.0.len() < MAX_ERRORS || self.0.contains_key(&message) {
            *self.0.entry(message).or_default() += count;
        }
    }

    /// The most frequent ones, as a report lists them.
    fn most_frequent(&self, lane: Lane) -> Vec<ReadErrors> {
        let errors = self.0.iter();
        let mut errors: Vec<_> = errors
            .map(|(message, count)| ReadErrors { lane, message: message.clone(), count: *count })
            .collect();
        errors.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.message.cmp(&b.message)));
        errors.truncate(LISTED_ERRORS);
        errors
    }
}

type Shared = Arc<Mutex<Counted>>;

fn take(shared: &Shared) -> Counted {
    std::mem::take(&mut *shared.lock().unwrap_or_else(PoisonError::into_inner))
}

/// Runs a plan until it ends or `stop` turns true, and returns the figures after the warm-up.
/// `progress` receives every second.
///
/// # Errors
/// Why it could not run.
pub async fn run(
    plan: Plan,
    progress: impl Fn(LoadProgress) + Send + 'static,
    stop: watch::Receiver<bool>,
) -> Result<LoadReport, String> {
    plan.profile.check().map_err(|e| e.to_string())?;
    let chooser = plan.profile.popularity.chooser(plan.keys.len()).map_err(|e| e.to_string())?;
    let (sender, mut progresses) = mpsc::unbounded_channel();
    let thread = std::thread::Builder::new().name("load-run".into()).spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        let runtime = runtime.map_err(|e| e.to_string())?;
        Ok(runtime.block_on(drive(plan, chooser, sender, stop)))
    });
    let thread = thread.map_err(|e| format!("no thread for the run: {e}"))?;
    // The channel closes when the run is over.
    while let Some(update) = progresses.recv().await {
        progress(update);
    }
    let joined = tokio::task::spawn_blocking(move || thread.join()).await;
    match joined {
        Ok(Ok(report)) => report,
        _ => Err("the run failed inside Verax; its log has the details".into()),
    }
}

async fn drive(
    plan: Plan,
    chooser: KeyChooser,
    updates: mpsc::UnboundedSender<LoadProgress>,
    mut stop: watch::Receiver<bool>,
) -> LoadReport {
    let Plan { profile, keys, cached, direct } = plan;
    let keys: Arc<[Key]> = keys.into();
    let mut clients = JoinSet::new();
    let readers = [LaneReader::Cached(cached), LaneReader::Direct(direct)];
    let counts: [Shared; 2] = Default::default();
    for (reader, shared) in readers.into_iter().zip(&counts) {
        for client in 0..profile.clients {
            // Client n of each lane draws the same sequence.
            let random = ChaCha8Rng::seed_from_u64(profile.seed ^ (u64::from(client) << 32));
            let (reader, keys) = (reader.clone(), Arc::clone(&keys));
            let (chooser, shared) = (chooser.clone(), Arc::clone(shared));
            clients.spawn(read_in_a_loop(reader, keys, chooser, random, shared));
        }
    }
    let mut measured = Measured::default();
    let mut elapsed = Duration::ZERO;
    let (started, mut last) = (Instant::now(), Instant::now());
    let whole = profile.warm_up + profile.duration;
    while elapsed < whole && !*stop.borrow() {
        // The warm-up ends at the end of a tick.
        let edge = if elapsed < profile.warm_up { profile.warm_up } else { whole };
        let next = (elapsed + Duration::from_secs(1)).min(edge);
        tokio::select! {
            () = tokio::time::sleep_until((started + next).into()) => {}
            _ = stop.wait_for(|stop| *stop) => {}
        }
        let length = last.elapsed();
        last = Instant::now();
        let warm_up = elapsed < profile.warm_up;
        elapsed = started.elapsed().max(next);
        let mut counted = counts.each_ref().map(take);
        match warm_up {
            true => measured.began = ProcessorTime::now(),
            false => measured.add(&mut counted, length),
        }
        let tick = LoadTick {
            at_seconds: started.elapsed().as_secs_f64(),
            warm_up,
            cached: counted[0].recorder.figures(length, true),
            direct: counted[1].recorder.figures(length, false),
        };
        // The interval takes a while, which would hold the clients up.
        let so_far = measured.report(keys.len(), &[]);
        // There may be no listener left.
        let _ = updates.send(LoadProgress { tick, so_far });
    }
    clients.shutdown().await;
    measured.report(keys.len(), &measured.slices)
}

async fn read_in_a_loop(
    reader: LaneReader,
    keys: Arc<[Key]>,
    chooser: KeyChooser,
    mut random: ChaCha8Rng,
    shared: Shared,
) {
    loop {
        let key = &keys[chooser.choose(&mut random)];
        let started = Instant::now();
        let outcome = reader.read(key).await;
        let latency = started.elapsed();
        let failed = outcome.is_err();
        {
            let mut counted = shared.lock().unwrap_or_else(PoisonError::into_inner);
            match outcome {
                Ok(outcome) => counted.recorder.record(latency, outcome),
                Err(message) => {
                    counted.recorder.record(latency, Outcome::Error);
                    counted.errors.add(message, 1);
                }
            }
        }
        if failed {
            tokio::time::sleep(PAUSE_AFTER_ERROR).await;
        }
    }
}

/// What was measured after the warm-up.
struct Measured {
    totals: [LaneRecorder; 2],
    errors: [ErrorCounts; 2],
    length: Duration,
    /// The answered reads of each second.
    slices: Vec<PairedSlice>,
    /// The processors' time when measuring began.
    began: Option<ProcessorTime>,
}

impl Default for Measured {
    fn default() -> Self {
        Self {
            totals: Default::default(),
            errors: Default::default(),
            length: Duration::ZERO,
            slices: Vec::new(),
            began: ProcessorTime::now(),
        }
    }
}

impl Measured {
    fn add(&mut self, counted: &mut [Counted; 2], length: Duration) {
        self.length += length;
        let [cached, direct] = counted.each_ref().map(|lane| lane.recorder.answered() as f64);
        self.slices.push(PairedSlice { over: cached, under: direct });
        let lanes = self.totals.iter_mut().zip(&mut self.errors).zip(counted);
        for ((total, errors), counted) in lanes {
            total.add(&counted.recorder);
            for (message, count) in counted.errors.0.drain() {
                errors.add(message, count);
            }
        }
    }

    /// The report, with an interval over `slices`.
    fn report(&self, keys: usize, slices: &[PairedSlice]) -> LoadReport {
        let cached = self.totals[0].figures(self.length, true);
        let direct = self.totals[1].figures(self.length, false);
        let listed = Lane::ALL.into_iter().zip(&self.errors);
        let mut errors: Vec<_> =
            listed.flat_map(|(lane, errors)| errors.most_frequent(lane)).collect();
        errors.sort_by_key(|errors| Reverse(errors.count));
        let now = self.began.zip(ProcessorTime::now());
        let stolen = now.and_then(|(began, now)| now.stolen_since(began));
        LoadReport {
            measured_seconds: self.length.as_secs_f64(),
            keys: keys as u64,
            cached,
            direct,
            comparison: Comparison::of(&cached, &direct, slices),
            errors,
            doubts: doubts(&cached, &direct, stolen).iter().map(LoadDoubt::from).collect(),
        }
    }
}
