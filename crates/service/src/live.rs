//! Sampling what goes on, once a second, for whoever watches.

use std::collections::{HashMap, VecDeque};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::broadcast;
use verax_api::{Latency, LiveSample, NamespaceSample};
use verax_core::meter::LatencyCounts;
use verax_core::{NamespaceId, Timestamp};
use verax_records::NodeState;

use crate::access::Caller;
use crate::administration::sees;
use crate::cache::RefillOutcome;
use crate::clock::shown;
use crate::membership::Role;
use crate::namespace::Namespace;
use crate::service::Service;

/// How many samples are kept for whoever comes later.
const HISTORY: usize = 120;

/// The counts of a namespace at one moment, since the service started.
#[derive(Debug, Clone, Default)]
pub struct CounterReading {
    /// Look-ups.
    pub reads: u64,
    /// Look-ups answered with a fresh copy.
    pub hits: u64,
    /// Look-ups answered with a stale copy.
    pub stale: u64,
    /// Look-ups that waited for another caller's refill.
    pub joined: u64,
    /// Look-ups that ended without a value.
    pub misses: u64,
    /// Values stored by callers.
    pub puts: u64,
    /// Entries deleted by callers.
    pub deletes: u64,
    /// Permits given to callers that refill by themselves.
    pub permits: u64,
    /// Reads of the origin.
    pub origin_calls: u64,
    /// Reads of the origin that failed.
    pub origin_errors: u64,
    /// Refills that were not stored because the key was invalidated or written meanwhile.
    pub refused_refills: u64,
    /// Look-ups answered with the word that the origin has no value.
    pub negative_hits: u64,
    /// Values and deletions sent to the origin.
    pub origin_writes: u64,
    /// Refills that have ended, for each of [`RefillOutcome::ALL`].
    pub refills: [u64; RefillOutcome::ALL.len()],
    /// How long refills took, from the permit to the end.
    pub refill_latency: LatencyCounts,
    /// Service-side latency of answers from the cache.
    pub hit_latency: LatencyCounts,
    /// Latency of reads of the origin.
    pub origin_latency: LatencyCounts,
}

impl CounterReading {
    /// Reads a namespace's counts.
    pub fn of(namespace: &Namespace) -> Self {
        let counters = namespace.counters();
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        Self {
            reads: counters.reads(),
            hits: counters.hits(),
            stale: counters.stale(),
            joined: read(&counters.joined),
            misses: read(&counters.misses),
            puts: read(&counters.puts),
            negative_hits: read(&counters.negative_hits),
            origin_writes: read(&counters.origin_writes),
            refills: RefillOutcome::ALL.map(|outcome| counters.refills(outcome)),
            refill_latency: counters.refill_latency.counts(),
            deletes: read(&counters.deletes),
            permits: read(&counters.permits),
            origin_calls: read(&counters.origin_calls),
            origin_errors: read(&counters.origin_errors),
            refused_refills: read(&counters.refused_refills),
            hit_latency: counters.hit_latency(),
            origin_latency: counters.origin_latency.counts(),
        }
    }
}

/// One namespace within a window.
#[derive(Debug)]
struct Part {
    namespace: Arc<Namespace>,
    sample: NamespaceSample,
    hits: LatencyCounts,
    origin: LatencyCounts,
}

/// What went on between two readings, for every namespace.
#[derive(Debug)]
pub(crate) struct Window {
    at: Timestamp,
    length: Duration,
    uptime: Duration,
    memory: u64,
    evictions: u64,
    records_available: bool,
    role: Role,
    standbys: u32,
    away: u32,
    parts: Vec<Part>,
}

/// The last samples, and a channel of those to come.
#[derive(Debug)]
pub(crate) struct Live {
    history: Mutex<VecDeque<Arc<Window>>>,
    sender: broadcast::Sender<Arc<Window>>,
}

impl Default for Live {
    fn default() -> Self {
        let history = Mutex::new(VecDeque::with_capacity(HISTORY));
        Self { history, sender: broadcast::channel(16).0 }
    }
}

fn latency(counts: &LatencyCounts) -> Option<Latency> {
    let ms = |q| counts.quantile(q).map(|d| d.as_secs_f64() * 1_000.0);
    Some(Latency { samples: counts.samples(), p50_ms: ms(0.5)?, p99_ms: ms(0.99)? })
}

fn part(
    namespace: Arc<Namespace>,
    now: &CounterReading,
    before: &CounterReading,
    seconds: f64,
) -> Part {
    let reads = now.reads - before.reads;
    // That there is no value is an answer, too.
    let negative = now.negative_hits - before.negative_hits;
    let hits = (now.hits - before.hits) + (now.stale - before.stale) + negative;
    let usage = namespace.partition().usage();
    let hit_counts = now.hit_latency.since(&before.hit_latency);
    let origin_counts = now.origin_latency.since(&before.origin_latency);
    let sample = NamespaceSample {
        tenant: namespace.tenant().to_string(),
        name: namespace.name().to_string(),
        reads_per_second: reads as f64 / seconds,
        // A read may be counted in one window and its hit in the next.
        hit_ratio: (reads > 0).then(|| (hits as f64 / reads as f64).min(1.0)),
        hits,
        reads,
        origin_calls_per_second: (now.origin_calls - before.origin_calls) as f64 / seconds,
        origin_errors: now.origin_errors - before.origin_errors,
        hit_latency: latency(&hit_counts),
        origin_latency: latency(&origin_counts),
        entries: usage.entries,
        bytes: usage.bytes,
    };
    Part { namespace, sample, hits: hit_counts, origin: origin_counts }
}

/// Takes a sample every second until the service stops.
pub(crate) async fn sample_every_second(service: Arc<Service>) {
    let mut ticks = tokio::time::interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut before: HashMap<NamespaceId, CounterReading> = HashMap::new();
    let (mut last, mut evicted) = (Instant::now(), service.cache.store.evicted());
    ticks.tick().await;
    loop {
        ticks.tick().await;
        let length = last.elapsed();
        last = Instant::now();
        let mut readings = HashMap::new();
        let mut parts = Vec::new();
        for namespace in service.registry.namespaces() {
            let reading = CounterReading::of(&namespace);
            let id = namespace.id();
            let old = before.remove(&id).unwrap_or_default();
            parts.push(part(namespace, &reading, &old, length.as_secs_f64()));
            readings.insert(id, reading);
        }
        before = readings;
        let evicted_now = service.cache.store.evicted();
        let topology = service.topology();
        let window = Arc::new(Window {
            at: service.clock.now(),
            length,
            uptime: service.clock.uptime(),
            memory: service.cache.store.used(),
            evictions: evicted_now - evicted,
            records_available: service.records_available(),
            role: service.role(),
            standbys: topology.count(NodeState::Standby),
            away: topology.count(NodeState::Away),
            parts,
        });
        evicted = evicted_now;
        {
            let mut history = service.live.history.lock().unwrap_or_else(PoisonError::into_inner);
            if history.len() == HISTORY {
                history.pop_front();
            }
            history.push_back(Arc::clone(&window));
        }
        // Nobody may be watching.
        let _ = service.live.sender.send(window);
    }
}

impl Service {
    /// What a caller may see of the last two minutes, and a channel of the samples to come.
    pub fn watch(&self, caller: &Caller) -> (Vec<LiveSample>, LiveReceiver) {
        let receiver = self.live.sender.subscribe();
        let history: Vec<_> = {
            let history = self.live.history.lock().unwrap_or_else(PoisonError::into_inner);
            history.iter().cloned().collect()
        };
        (history.iter().map(|w| self.view(caller, w)).collect(), LiveReceiver(receiver))
    }

    /// What a caller may see of a window.
    fn view(&self, caller: &Caller, window: &Window) -> LiveSample {
        let whole = caller.is_admin();
        let parts: Vec<_> =
            window.parts.iter().filter(|p| whole || sees(caller, &p.namespace)).collect();
        let (mut hits, mut origin) = (LatencyCounts::default(), LatencyCounts::default());
        for part in &parts {
            hits.add(&part.hits);
            origin.add(&part.origin);
        }
        LiveSample {
            at: shown(window.at),
            window_seconds: window.length.as_secs_f64(),
            uptime_seconds: window.uptime.as_secs_f64(),
            memory_bytes: whole.then_some(window.memory),
            memory_limit_bytes: whole.then(|| self.cache.store.limit()),
            evictions: whole.then_some(window.evictions),
            records_available: window.records_available,
            role: window.role.name().into(),
            standbys: window.standbys,
            away: window.away,
            namespaces: parts.iter().map(|p| p.sample.clone()).collect(),
            hit_latency: latency(&hits),
            origin_latency: latency(&origin),
        }
    }

    /// All namespaces with their counts, for the metrics page.
    pub fn readings(&self) -> Vec<(Arc<Namespace>, CounterReading, verax_core::store::Usage)> {
        let all = self.registry.namespaces().into_iter();
        all.map(|n| {
            let (reading, usage) = (CounterReading::of(&n), n.partition().usage());
            (n, reading, usage)
        })
        .collect()
    }
}

/// Samples to come.
#[derive(Debug)]
pub struct LiveReceiver(broadcast::Receiver<Arc<Window>>);

impl LiveReceiver {
    /// The next sample, as `caller` may see it; `None` when the service stops. A watcher that is too
    /// slow misses some.
    pub async fn next(&mut self, service: &Service, caller: &Caller) -> Option<LiveSample> {
        loop {
            match self.0.recv().await {
                Ok(window) => return Some(service.view(caller, &window)),
                Err(broadcast::error::RecvError::Lagged(_)) => {}
                Err(broadcast::error::RecvError::Closed) => return None,
            }
        }
    }
}
