//! Counts of hits. Every read writes them, so each thread has a stripe of its own: threads that
//! share a counter contend for its cache line.

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;

use verax_core::meter::{LatencyCounts, LatencyMeter};

/// More stripes than this cost memory in every namespace and are rarely used.
const STRIPES: usize = 4;

static NEXT: AtomicUsize = AtomicUsize::new(0);

thread_local! {
    static STRIPE: usize = NEXT.fetch_add(1, Ordering::Relaxed) % STRIPES;
}

/// The counts of one stripe, on cache lines of its own.
#[derive(Debug, Default)]
#[repr(align(128))]
struct Stripe {
    fresh: AtomicU64,
    stale: AtomicU64,
    sent_bytes: AtomicU64,
    latency: LatencyMeter,
}

/// Hits, and the latency of each inside the service.
#[derive(Debug, Default)]
pub(crate) struct HitCounters([Stripe; STRIPES]);

impl HitCounters {
    pub(crate) fn count(&self, fresh: u64, stale: u64, each: Duration) {
        let stripe = &self.0[STRIPE.with(|stripe| *stripe)];
        if fresh > 0 {
            stripe.fresh.fetch_add(fresh, Ordering::Relaxed);
        }
        if stale > 0 {
            stripe.stale.fetch_add(stale, Ordering::Relaxed);
        }
        stripe.latency.record_many(fresh + stale, each);
    }

    /// Counts bytes of values that are sent, with hits or otherwise.
    pub(crate) fn count_sent(&self, bytes: u64) {
        let stripe = &self.0[STRIPE.with(|stripe| *stripe)];
        stripe.sent_bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    pub(crate) fn sent_bytes(&self) -> u64 {
        self.sum(|stripe| &stripe.sent_bytes)
    }

    fn sum(&self, of: impl Fn(&Stripe) -> &AtomicU64) -> u64 {
        self.0.iter().map(|stripe| of(stripe).load(Ordering::Relaxed)).sum()
    }

    pub(crate) fn fresh(&self) -> u64 {
        self.sum(|stripe| &stripe.fresh)
    }

    pub(crate) fn stale(&self) -> u64 {
        self.sum(|stripe| &stripe.stale)
    }

    pub(crate) fn latency(&self) -> LatencyCounts {
        let mut counts = LatencyCounts::default();
        self.0.iter().for_each(|stripe| counts.add(&stripe.latency.counts()));
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_of_threads_add_up() {
        let counters = HitCounters::default();
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    for _ in 0..1_000 {
                        counters.count(2, 1, Duration::from_micros(5));
                    }
                });
            }
        });
        assert_eq!((counters.fresh(), counters.stale()), (16_000, 8_000));
        let latency = counters.latency();
        assert_eq!((latency.samples(), latency.total()), (24_000, Duration::from_micros(120_000)));
    }
}
