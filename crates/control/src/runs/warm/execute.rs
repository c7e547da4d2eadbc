//! Carries a warm run out.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use futures_util::{StreamExt, stream};
use tokio::time::Instant;
use verax_api::{FailureCount, WarmFailure, WarmRun};
use verax_core::Key;
use verax_core::warm::{Backoff, FinishedKeys, FreshEntries};
use verax_engine::cache::{RefillTerms, Refilled};
use verax_engine::{EngineError, OriginError, Warmer};
use verax_records::{RunFailure, RunState};

use super::work::WarmWork;
use crate::control::Control;
use crate::runs::lifecycle::RunEnd;
use crate::runs::table::{RunSignal, Watched};

/// The failures that a run shows.
const MAX_SHOWN_FAILURES: usize = 20;

/// The failures of a run that are kept in the records.
const MAX_KEPT_FAILURES: u32 = 10_000;

/// How many failures are written together.
const FAILURES_TOGETHER: usize = 200;

/// What became of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
enum KeyOutcome {
    Stored {
        bytes: u64,
    },
    Skipped,
    NoValue,
    Failed {
        kind: &'static str,
        reason: String,
    },
    /// The run ended before it was done.
    Abandoned,
}

/// Why a run ends early.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum EndReason {
    Stopped,
    Deadline,
    TooManyFailures,
}

/// What the keys of a run share while it runs.
#[derive(Debug)]
struct Progress {
    finished: FinishedKeys,
    /// Time without pauses, before the present stretch.
    active_before: Duration,
    /// Since when it is not paused.
    active_since: Option<Instant>,
    /// The time of all refills together.
    refilling: Duration,
    /// When the next refill may begin, with a limit on their rate.
    next_start: Instant,
    /// For each source, how many of its keys are finished, and how many had no value.
    sources: Vec<(u64, u64)>,
    unwritten: Vec<RunFailure>,
    failures: u32,
    ends: Option<EndReason>,
}

/// A warm run that is carried out.
pub(super) struct Execution {
    control: Arc<Control>,
    warmer: Warmer,
    work: WarmWork,
    run: Arc<Watched<WarmRun>>,
    id: u64,
    /// The number of the first key.
    from: usize,
    progress: Mutex<Progress>,
    over: AtomicBool,
}

impl Execution {
    pub(super) fn new(
        control: Arc<Control>,
        warmer: Warmer,
        work: WarmWork,
        run: Arc<Watched<WarmRun>>,
        id: u64,
        from: usize,
    ) -> Self {
        let now = Instant::now();
        let before = run.now();
        let progress = Mutex::new(Progress {
            finished: FinishedKeys::resumed(from),
            active_before: Duration::try_from_secs_f64(before.elapsed_ms / 1_000.0)
                .unwrap_or_default(),
            active_since: Some(now),
            refilling: Duration::from_secs_f64(
                (before.origin_concurrency * before.elapsed_ms / 1_000.0).max(0.0),
            ),
            next_start: now,
            sources: vec![(0, 0); work.source_names.len()],
            unwritten: Vec::new(),
            failures: before.failed as u32,
            ends: None,
        });
        Self { control, warmer, work, run, id, from, progress, over: AtomicBool::new(false) }
    }

    fn progress(&self) -> MutexGuard<'_, Progress> {
        self.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Runs to the end.
    pub(super) async fn execute(self) -> RunEnd<WarmRun> {
        self.run.change(|run| run.phase = "refilling".into());
        self.refill(self.from..self.work.keys.len(), false).await;
        if self.from > 0 && !self.is_over() {
            // What was refilled before the restart was lost with the process.
            self.run.change(|run| run.phase = "restoring".into());
            self.refill(0..self.from, true).await;
        }
        let unwritten = std::mem::take(&mut self.progress().unwritten);
        self.write_failures(unwritten).await;
        self.end()
    }

    async fn refill(&self, numbers: std::ops::Range<usize>, again: bool) {
        let deadline = self.work.settings.deadline.map(|deadline| {
            let passed = self.control.engine.now().since(verax_core::Timestamp::from_millis(
                u64::try_from(self.run.now().started_at.as_millisecond()).unwrap_or(0),
            ));
            Instant::now() + deadline.saturating_sub(passed)
        });
        let concurrency = self.work.settings.concurrency as usize;
        let refilling = stream::iter(numbers)
            .take_while(|_| std::future::ready(!self.is_over()))
            .for_each_concurrent(concurrency, |number| self.refill_one(number, again));
        let watching = self.watch(deadline);
        tokio::select! {
            () = refilling => {}
            // It never ends: refills in flight are waited for.
            () = watching => {}
        }
    }

    fn is_over(&self) -> bool {
        self.over.load(Ordering::Acquire)
    }

    fn end_early(&self, reason: EndReason) {
        self.progress().ends.get_or_insert(reason);
        self.over.store(true, Ordering::Release);
    }

    /// Follows what people say, and the deadline.
    async fn watch(&self, deadline: Option<Instant>) {
        let mut signal = self.run.signal();
        loop {
            let now = *signal.borrow_and_update();
            match now {
                RunSignal::Stop => self.end_early(EndReason::Stopped),
                RunSignal::Pause | RunSignal::Go => self.pause(now == RunSignal::Pause),
            }
            let late = async {
                match deadline.filter(|_| !self.is_over()) {
                    Some(deadline) => tokio::time::sleep_until(deadline).await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                changed = signal.changed() => if changed.is_err() {
                    std::future::pending::<()>().await;
                },
                () = late => self.end_early(EndReason::Deadline),
            }
        }
    }

    fn pause(&self, paused: bool) {
        let mut progress = self.progress();
        match (paused, progress.active_since) {
            (true, Some(since)) => {
                progress.active_before += since.elapsed();
                progress.active_since = None;
            }
            (false, None) => progress.active_since = Some(Instant::now()),
            _ => return,
        }
        drop(progress);
        self.run.change(|run| {
            run.phase = if paused { "paused" } else { "refilling" }.into();
            run.seconds_left = None;
        });
    }

    async fn refill_one(&self, number: usize, again: bool) {
        let outcome = self.outcome_of(number, again).await;
        self.note(number, outcome, again);
        let unwritten = {
            let mut progress = self.progress();
            let many = progress.unwritten.len() >= FAILURES_TOGETHER;
            if many { std::mem::take(&mut progress.unwritten) } else { Vec::new() }
        };
        self.write_failures(unwritten).await;
    }

    /// Waits while the run pauses; `false` if it is over.
    async fn goes_on(&self) -> bool {
        let mut signal = self.run.signal();
        // A deadline ends a run that pauses, too.
        self.or_over(async { drop(signal.wait_for(|signal| *signal != RunSignal::Pause).await) })
            .await;
        !self.is_over()
    }

    /// Waits until a refill may begin; `false` if the run is over.
    async fn may_begin(&self) -> bool {
        if !self.goes_on().await {
            return false;
        }
        if let Some(rate) = self.work.settings.max_per_second {
            let start = {
                let mut progress = self.progress();
                let start = progress.next_start.max(Instant::now());
                progress.next_start = start + Duration::from_secs_f64(1.0 / rate);
                start
            };
            self.or_over(tokio::time::sleep_until(start)).await;
        }
        !self.is_over()
    }

    /// Waits for something, but no longer than the run goes on.
    async fn or_over<T>(&self, what: impl Future<Output = T>) -> Option<T> {
        let over = async {
            let mut signal = self.run.signal();
            while !self.is_over() {
                // The deadline gives no signal.
                let soon = tokio::time::sleep(Duration::from_millis(250));
                tokio::select! {
                    _ = signal.wait_for(|signal| *signal == RunSignal::Stop) => return,
                    () = soon => {}
                }
            }
        };
        tokio::select! {
            done = what => Some(done),
            () = over => None,
        }
    }

    async fn outcome_of(&self, number: usize, again: bool) -> KeyOutcome {
        let key = &self.work.keys[number];
        if !self.goes_on().await {
            return KeyOutcome::Abandoned;
        }
        // What is left alone takes no part of the rate.
        if self.is_left(key, again) {
            return KeyOutcome::Skipped;
        }
        if !self.may_begin().await {
            return KeyOutcome::Abandoned;
        }
        if self.is_left(key, again) {
            return KeyOutcome::Skipped;
        }
        let settings = &self.work.settings;
        let backoff = Backoff { first: settings.first_pause };
        let mut retry = 0;
        loop {
            let outcome = self.refill_key(key).await;
            let (Err(error), true) = (&outcome, retry < settings.retries) else {
                return outcome_of(outcome);
            };
            let Some(least) = retry_after(error) else { return outcome_of(outcome) };
            retry += 1;
            let pause = backoff.pause(retry, rand::random()).max(least);
            if self.or_over(tokio::time::sleep(pause)).await.is_none() || !self.may_begin().await {
                return KeyOutcome::Abandoned;
            }
        }
    }

    /// Whether an entry is left as it is.
    fn is_left(&self, key: &Key, again: bool) -> bool {
        let least = match self.work.settings.fresh {
            _ if again => Duration::ZERO,
            FreshEntries::Refresh => return false,
            FreshEntries::RefreshWithin(least) => least,
            FreshEntries::Skip => Duration::ZERO,
        };
        let fresh_for = self.warmer.fresh_for(key.as_str());
        fresh_for.is_some_and(|left| left > least)
    }

    async fn refill_key(&self, key: &Key) -> Result<u64, Failed> {
        let origin = self.warmer.binding().origin.clone();
        let Some(origin) = origin else { return self.ask_service(key).await };
        let settings = &self.work.settings;
        let most = settings.places_of(origin.max_concurrency());
        let place = self.or_over(origin.spare_place(most)).await.ok_or(Failed::Over)?;
        let terms = RefillTerms { place: Some(place), max_age: settings.max_age, trace: None };
        let started = Instant::now();
        let refilled = self.warmer.refill(key, terms).await;
        self.progress().refilling += started.elapsed();
        bytes_of(refilled)
    }

    /// Asks a service to refill a key of a namespace without an origin.
    async fn ask_service(&self, key: &Key) -> Result<u64, Failed> {
        if self.work.settings.max_age.is_some() {
            return Err(Failed::NoOrigin);
        }
        let asked = self.or_over(self.warmer.ask(key)).await.ok_or(Failed::Over)?;
        if let Ok(refilled) = &asked {
            self.progress().refilling += refilled.origin_took;
        }
        bytes_of(asked)
    }

    fn note(&self, number: usize, outcome: KeyOutcome, again: bool) {
        if outcome == KeyOutcome::Abandoned {
            return;
        }
        let (position, active, refilling) = {
            let mut progress = self.progress();
            let source = usize::from(self.work.sources.get(number).copied().unwrap_or(0));
            if let Some((finished, without)) = progress.sources.get_mut(source) {
                *finished += 1;
                *without += u64::from(outcome == KeyOutcome::NoValue);
            }
            if let KeyOutcome::Failed { reason, .. } = &outcome
                && progress.failures < MAX_KEPT_FAILURES
            {
                let (number, key) = (progress.failures, self.work.keys[number].to_string());
                progress.unwritten.push(RunFailure { number, key, reason: reason.clone() });
                progress.failures += 1;
            }
            let since = progress.active_since.map(|since| since.elapsed()).unwrap_or_default();
            let active = progress.active_before + since;
            let position =
                if again { self.work.keys.len() } else { progress.finished.finish(number) };
            (position, active, progress.refilling)
        };
        let mut too_many = false;
        self.run.change(|run| {
            match &outcome {
                KeyOutcome::Stored { bytes } => {
                    run.bytes += bytes;
                    // One that is restored was counted before the restart.
                    run.stored += u64::from(!again);
                }
                KeyOutcome::Skipped => run.skipped += u64::from(!again),
                KeyOutcome::NoValue => run.no_value += u64::from(!again),
                KeyOutcome::Failed { kind, reason } => {
                    let key = &self.work.keys[number];
                    note_failure(run, key, kind, reason, again);
                    let most = self.work.settings.tolerated_failures;
                    too_many = most.is_some_and(|most| run.failed > most);
                }
                KeyOutcome::Abandoned => {}
            }
            let seconds = active.as_secs_f64().max(1e-9);
            run.elapsed_ms = seconds * 1_000.0;
            run.per_second = run.finished() as f64 / seconds;
            let left = run.keys.saturating_sub(run.finished());
            run.seconds_left = (run.per_second > 0.0).then(|| left as f64 / run.per_second);
            run.origin_concurrency = refilling.as_secs_f64() / seconds;
            run.position = position as u64;
        });
        if too_many {
            self.end_early(EndReason::TooManyFailures);
        }
    }

    async fn write_failures(&self, failures: Vec<RunFailure>) {
        if failures.is_empty() {
            return;
        }
        // The run shows its first failures in any case.
        if let Err(error) = self.control.records.keep_failures(self.id, &failures).await {
            tracing::warn!(%error, run = self.id, "failures of a warm run are missing in the records");
        }
    }

    fn end(&self) -> RunEnd<WarmRun> {
        let (ends, sources) = {
            let progress = self.progress();
            (progress.ends, progress.sources.clone())
        };
        let warnings: Vec<String> = sources
            .iter()
            .zip(&self.work.source_names)
            .filter(|((finished, without), _)| *finished > 0 && finished == without)
            .map(|((finished, _), name)| match finished {
                1 => format!("the origin has no value for the key of {name}"),
                _ => format!("the origin has no value for any of the {finished} keys of {name}"),
            })
            .collect();
        let state = match ends {
            Some(EndReason::Stopped) => RunState::Stopped,
            Some(_) => RunState::Failed,
            None => RunState::Done,
        };
        let deadline = self.work.settings.deadline;
        let most = self.work.settings.tolerated_failures;
        let reason = match ends {
            Some(EndReason::Deadline) => Some(format!(
                "its deadline of {} s passed",
                deadline.unwrap_or_default().as_secs_f64()
            )),
            Some(EndReason::TooManyFailures) => {
                Some(format!("more than {} keys failed", most.unwrap_or_default()))
            }
            Some(EndReason::Stopped) | None => None,
        };
        let change = Box::new(move |run: &mut WarmRun| {
            run.phase = String::new();
            run.seconds_left = None;
            run.warnings.extend(warnings);
            run.reason = reason.or_else(|| run.reason.take());
        });
        RunEnd { state, change }
    }
}

fn note_failure(run: &mut WarmRun, key: &Key, kind: &str, reason: &str, again: bool) {
    // One that is not restored was counted as stored before the restart.
    if again {
        run.stored = run.stored.saturating_sub(1);
    }
    run.failed += 1;
    match run.failure_counts.iter_mut().find(|count| count.kind == kind) {
        Some(count) => count.keys += 1,
        None => run.failure_counts.push(FailureCount { kind: kind.to_owned(), keys: 1 }),
    }
    run.failure_counts.sort_by(|a, b| b.keys.cmp(&a.keys).then_with(|| a.kind.cmp(&b.kind)));
    if run.failures.len() < MAX_SHOWN_FAILURES {
        run.failures.push(WarmFailure { key: key.to_string(), reason: reason.to_owned() });
    }
}

/// Why a refill brought nothing.
#[derive(Debug)]
enum Failed {
    Engine(EngineError),
    NoValue,
    Forbidden,
    NotStored,
    NoOrigin,
    Over,
}

/// The size of a refilled value, if it was stored.
fn bytes_of(refilled: Result<Refilled, EngineError>) -> Result<u64, Failed> {
    match refilled {
        Ok(refilled) if refilled.entry.is_negative() => Err(Failed::NoValue),
        Ok(refilled) if refilled.stored => Ok(refilled.entry.value.len() as u64),
        Ok(refilled) if refilled.entry.lifetime.total().is_zero() => Err(Failed::Forbidden),
        Ok(_) => Err(Failed::NotStored),
        Err(error) => Err(Failed::Engine(error)),
    }
}

/// After how long a failed refill is worth another try; `None` if it is not.
fn retry_after(failed: &Failed) -> Option<Duration> {
    match failed {
        Failed::Engine(EngineError::Origin(error)) => match &**error {
            OriginError::CircuitOpen { retry_after } => Some(*retry_after),
            OriginError::Connect { .. }
            | OriginError::Timeout { .. }
            | OriginError::Garbled { .. }
            | OriginError::Busy
            | OriginError::Query { .. } => Some(Duration::ZERO),
            OriginError::Status { status, .. } if *status >= 500 || *status == 429 => {
                Some(Duration::ZERO)
            }
            _ => None,
        },
        Failed::Engine(EngineError::Overloaded(_) | EngineError::RefillAbandoned) => {
            Some(Duration::ZERO)
        }
        // An invalidation came in between: what is read now is newer.
        Failed::NotStored => Some(Duration::ZERO),
        _ => None,
    }
}

fn outcome_of(refilled: Result<u64, Failed>) -> KeyOutcome {
    let failed = |kind, reason: &str| KeyOutcome::Failed { kind, reason: reason.to_owned() };
    match refilled {
        Ok(bytes) => KeyOutcome::Stored { bytes },
        Err(Failed::NoValue | Failed::Engine(EngineError::NegativeResult { .. })) => {
            KeyOutcome::NoValue
        }
        Err(Failed::Over) => KeyOutcome::Abandoned,
        Err(Failed::Forbidden) => failed("no-store", "the origin forbids storing its value"),
        Err(Failed::NotStored) => {
            failed("not-stored", "it was invalidated while it was read, or does not fit")
        }
        Err(Failed::NoOrigin) => failed("no-origin", "the namespace no longer has an origin"),
        Err(Failed::Engine(EngineError::Origin(error))) => match &*error {
            OriginError::NoValue { .. } => KeyOutcome::NoValue,
            error => failed(error.kind(), &error.plain()),
        },
        Err(Failed::Engine(EngineError::RefillAbandoned)) => {
            failed("given-up", "the service gave it up, or took longer than its lease")
        }
        Err(Failed::Engine(error @ EngineError::NoRefiller { .. })) => {
            failed("no-refiller", &error.to_string())
        }
        Err(Failed::Engine(error)) => failed("refused", &error.to_string()),
    }
}
