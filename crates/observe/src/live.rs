//! Takes a live sample every second.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::broadcast;
use verax_api::{Latency, LiveSample, NamespaceSample, moment};
use verax_core::meter::LatencyCounts;
use verax_core::{NamespaceId, Timestamp};
use verax_engine::{MemoryUse, Namespace};

use crate::counters::CounterReading;
use crate::statistics::Statistics;

/// The maximum number of namespaces a sample shows one by one.
const MAX_ROWS: usize = 200;

/// How many samples are kept for later watchers.
const HISTORY: usize = 120;

/// One namespace within a window.
#[derive(Debug)]
struct Part {
    namespace: Arc<Namespace>,
    sample: NamespaceSample,
    hits: LatencyCounts,
    origin: LatencyCounts,
}

/// The service at the end of a window.
#[derive(Debug, Clone, Copy)]
pub struct Gauges {
    /// The end of the window.
    pub at: Timestamp,
    /// The uptime of the service.
    pub uptime: Duration,
    /// The memory of entries.
    pub memory: MemoryUse,
    /// Whether the records responded when last queried.
    pub records_available: bool,
    /// This node's role, as the API names it.
    pub role: &'static str,
    /// The number of standbys.
    pub standbys: u32,
    /// The number of nodes that are away.
    pub away: u32,
}

/// The difference of two readings, for every namespace.
#[derive(Debug)]
pub struct Window {
    situation: Gauges,
    length: Duration,
    evictions: u64,
    parts: Vec<Part>,
}

/// The readings at the start of the next window.
#[derive(Debug)]
struct Before {
    at: Instant,
    evicted: u64,
    readings: HashMap<NamespaceId, CounterReading>,
}

/// The latest samples, and a channel of new ones.
#[derive(Debug)]
pub struct Live {
    before: Mutex<Before>,
    history: Mutex<VecDeque<Arc<Window>>>,
    sender: broadcast::Sender<Arc<Window>>,
}

impl Default for Live {
    fn default() -> Self {
        let before = Before { at: Instant::now(), evicted: 0, readings: HashMap::new() };
        let history = Mutex::new(VecDeque::with_capacity(HISTORY));
        Self { before: Mutex::new(before), history, sender: broadcast::channel(16).0 }
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
    at: Timestamp,
) -> Part {
    let reads = now.reads - before.reads;
    // A negative entry is a hit, too.
    let negative = now.negative_hits - before.negative_hits;
    let hits = (now.hits - before.hits) + (now.stale - before.stale) + negative;
    let usage = namespace.usage();
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
        bypass_seconds_left: namespace.bypass_left(at).map(|left| left.as_secs_f64()),
    };
    Part { namespace, sample, hits: hit_counts, origin: origin_counts }
}

impl Live {
    /// Ends a window, and sends it to watchers.
    pub fn sample(
        &self,
        situation: Gauges,
        observed: impl IntoIterator<Item = (Arc<Namespace>, Arc<Statistics>)>,
    ) {
        let mut before = self.before.lock().unwrap_or_else(PoisonError::into_inner);
        let length = before.at.elapsed();
        before.at = Instant::now();
        let mut readings = HashMap::new();
        let mut parts = Vec::new();
        for (namespace, statistics) in observed {
            let (id, reading) = (namespace.id(), statistics.reading());
            let old = before.readings.remove(&id).unwrap_or_default();
            parts.push(part(namespace, &reading, &old, length.as_secs_f64(), situation.at));
            readings.insert(id, reading);
        }
        before.readings = readings;
        let evictions = situation.memory.evicted.saturating_sub(before.evicted);
        before.evicted = situation.memory.evicted;
        drop(before);
        let window = Arc::new(Window { situation, length, evictions, parts });
        {
            let mut history = self.history.lock().unwrap_or_else(PoisonError::into_inner);
            if history.len() == HISTORY {
                history.pop_front();
            }
            history.push_back(Arc::clone(&window));
        }
        // There may be no watcher.
        let _ = self.sender.send(window);
    }

    /// The windows of the last two minutes, and a channel of new ones.
    pub fn watch(&self) -> (Vec<Arc<Window>>, LiveReceiver) {
        let receiver = LiveReceiver(self.sender.subscribe());
        let history = self.history.lock().unwrap_or_else(PoisonError::into_inner);
        (history.iter().cloned().collect(), receiver)
    }
}

impl Window {
    /// Filters it to the namespaces that `sees` accepts; `whole` is for callers that see
    /// everything.
    pub fn view(&self, whole: bool, sees: impl Fn(&Namespace) -> bool) -> LiveSample {
        let parts: Vec<_> = self.parts.iter().filter(|p| whole || sees(&p.namespace)).collect();
        let (mut hits, mut origin) = (LatencyCounts::default(), LatencyCounts::default());
        for part in &parts {
            hits.add(&part.hits);
            origin.add(&part.origin);
        }
        let situation = &self.situation;
        let (namespaces, others) = rows(&parts);
        LiveSample {
            at: moment(situation.at),
            window_seconds: self.length.as_secs_f64(),
            uptime_seconds: situation.uptime.as_secs_f64(),
            memory_bytes: whole.then_some(situation.memory.used),
            memory_limit_bytes: whole.then_some(situation.memory.limit),
            evictions: whole.then_some(self.evictions),
            records_available: situation.records_available,
            role: situation.role.into(),
            standbys: situation.standbys,
            away: situation.away,
            namespaces,
            others,
            hit_latency: latency(&hits),
            origin_latency: latency(&origin),
        }
    }
}

/// The rows shown one by one, by name, and all others together.
fn rows(parts: &[&Part]) -> (Vec<NamespaceSample>, Option<NamespaceSample>) {
    let mut shown: Vec<&NamespaceSample> = parts.iter().map(|part| &part.sample).collect();
    let mut others = None;
    if shown.len() > MAX_ROWS {
        shown.sort_by_key(|sample| std::cmp::Reverse((sample.reads, sample.bytes)));
        let sum = |of: fn(&NamespaceSample) -> u64| shown[MAX_ROWS..].iter().map(|s| of(s)).sum();
        let rate = |of: fn(&NamespaceSample) -> f64| shown[MAX_ROWS..].iter().map(|s| of(s)).sum();
        let (hits, reads): (u64, u64) = (sum(|s| s.hits), sum(|s| s.reads));
        others = Some(NamespaceSample {
            tenant: String::new(),
            name: String::new(),
            reads_per_second: rate(|s| s.reads_per_second),
            hit_ratio: (reads > 0).then(|| (hits as f64 / reads as f64).min(1.0)),
            hits,
            reads,
            origin_calls_per_second: rate(|s| s.origin_calls_per_second),
            origin_errors: sum(|s| s.origin_errors),
            hit_latency: None,
            origin_latency: None,
            entries: sum(|s| s.entries),
            bytes: sum(|s| s.bytes),
            bypass_seconds_left: None,
        });
        shown.truncate(MAX_ROWS);
        shown.sort_by(|a, b| (&a.tenant, &a.name).cmp(&(&b.tenant, &b.name)));
    }
    (shown.into_iter().cloned().collect(), others)
}

/// New windows.
#[derive(Debug)]
pub struct LiveReceiver(broadcast::Receiver<Arc<Window>>);

impl LiveReceiver {
    /// The next window; `None` when the service stops. A slow watcher misses windows.
    pub async fn next(&mut self) -> Option<Arc<Window>> {
        loop {
            match self.0.recv().await {
                Ok(window) => return Some(window),
                Err(broadcast::error::RecvError::Lagged(_)) => {}
                Err(broadcast::error::RecvError::Closed) => return None,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use verax_core::{Name, NamespacePolicy};
    use verax_engine::events::{Event, Observer};
    use verax_engine::{Binding, Engine, EngineOptions, NamespaceIdentity};

    use super::*;
    use crate::Observatory;

    fn sample_of(namespaces: u64) -> LiveSample {
        let (engine, observatory) = (Engine::new(EngineOptions::default()), Observatory::default());
        let observed: Vec<_> = (1..=namespaces)
            .map(|n| {
                let (id, statistics) = (NamespaceId(n), observatory.open(NamespaceId(n)));
                statistics.observe(&Event::Hits { fresh: n, stale: 0, each: Duration::ZERO });
                let [tenant, name] = ["ferrydesk".to_owned(), format!("n{n:04}")].map(Name::new);
                let (tenant, name) = (tenant.unwrap(), name.unwrap());
                let identity = NamespaceIdentity { id, tenant, name };
                let binding = Binding { policy: NamespacePolicy::default(), origin: None };
                let observer = Arc::clone(&statistics);
                (engine.open_namespace(identity, binding, observer), statistics)
            })
            .collect();
        let situation = Gauges {
            at: engine.now(),
            uptime: engine.uptime(),
            memory: engine.memory(),
            records_available: true,
            role: "active",
            standbys: 0,
            away: 0,
        };
        let live = Live::default();
        live.sample(situation, observed);
        live.watch().0[0].view(true, |_| true)
    }

    #[test]
    fn a_sample_lists_two_hundred_namespaces_and_sums_up_the_rest() {
        let all = sample_of(200);
        assert_eq!((all.namespaces.len(), all.others), (200, None));
        let most = sample_of(203);
        assert_eq!((most.namespaces.len(), most.namespaces[0].name.as_str()), (200, "n0004"));
        let others = most.others.unwrap();
        assert_eq!((others.reads, others.hit_ratio), (1 + 2 + 3, Some(1.0)));
    }
}
