//! The clocks of the service beside those of the clients: its own latency and that of the origin.

use std::sync::{Arc, Mutex, PoisonError};

use verax_api::ServiceTick;
use verax_core::meter::LatencyCounts;
use verax_observe::{CounterReading, Statistics};

/// Reads the statistics of a namespace tick by tick.
#[derive(Debug)]
pub(super) struct ServiceClock {
    statistics: Arc<Statistics>,
    last: Mutex<CounterReading>,
}

fn quantile_ms(counts: &LatencyCounts, quantile: f64) -> Option<f64> {
    counts.quantile(quantile).map(|latency| latency.as_secs_f64() * 1_000.0)
}

impl ServiceClock {
    pub(super) fn new(statistics: &Arc<Statistics>) -> Self {
        Self { statistics: Arc::clone(statistics), last: Mutex::new(statistics.reading()) }
    }

    /// What was measured since the last call.
    pub(super) fn tick(&self) -> ServiceTick {
        let now = self.statistics.reading();
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let hits = now.hit_latency.since(&last.hit_latency);
        let origin = now.origin_latency.since(&last.origin_latency);
        let origin_calls = now.origin_calls.saturating_sub(last.origin_calls);
        *last = now;
        ServiceTick {
            hit_p50_ms: quantile_ms(&hits, 0.5),
            hit_p99_ms: quantile_ms(&hits, 0.99),
            origin_p50_ms: quantile_ms(&origin, 0.5),
            origin_p99_ms: quantile_ms(&origin, 0.99),
            origin_calls,
        }
    }
}
